"""The house as CONTRIBUTING.md draws it: imports run one way, nothing goes round in a circle, the core has no interface."""

from __future__ import annotations

import ast
import json
import re
import subprocess
import sys
import unittest
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from unittest import mock

from tests.helpers import ProgramTest, letter, letter_with, mbox
from wexagraph.cli.main import COMMANDS as PROGRAMS
from wexagraph.cli.main import MAKE
from wexagraph.exports import register
from wexagraph.tables import message_columns
from wexagraph.tables.columns import Column
from wexagraph.tables.message_columns import COLUMNS

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src/wexagraph"
CONTRIBUTING = (ROOT / "CONTRIBUTING.md").read_text("utf-8")
INTERFACE = {"click", "rich", "prompt_toolkit"}


class Check(unittest.TestCase):
    def test_format_lint_and_types(self) -> None:
        """As `make check` does, with the tools beside this Python; here other tests run meanwhile."""
        tools = Path(sys.executable).parent
        for command in (["ruff", "format", "--check"], ["ruff", "check"], ["mypy"]):
            places = [] if command == ["mypy"] else ["-q", "src", "tests", "benchmarks"]
            done = subprocess.run([tools / command[0], *command[1:], *places], cwd=ROOT, capture_output=True, text=True)
            self.assertEqual(done.returncode, 0, done.stdout + done.stderr)


def modules() -> dict[str, Path]:
    """All modules of the program by their dotted names."""
    paths = {}
    for path in SOURCE.rglob("*.py"):
        parts = path.relative_to(SOURCE.parent).with_suffix("").parts
        paths[".".join(parts[:-1] if parts[-1] == "__init__" else parts)] = path
    return paths


def imports(path: Path, known: dict[str, Path]) -> Iterator[str]:
    """The modules that a file imports: at its top, in functions, and for types alone."""
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module and not node.level:
            for alias in node.names:
                inner = f"{node.module}.{alias.name}"
                yield inner if inner in known else node.module


@cache
def graph() -> dict[str, set[str]]:
    known = modules()
    return {name: {to for to in imports(path, known) if to in known and to != name} for name, path in known.items()}


def rooms() -> list[str]:
    """The rooms in the order of the table in CONTRIBUTING.md."""
    return re.findall(r"(?m)^\| `([a-z]+)` \|", CONTRIBUTING)


def room(module: str) -> str:
    parts = module.split(".")
    return parts[1] if len(parts) > 1 and (SOURCE / parts[1]).is_dir() else ""


class House(unittest.TestCase):
    def test_no_two_files_import_each_other(self) -> None:
        reached: dict[str, set[str]] = graph()
        # the package itself only names what is loaded when it is asked for
        reached["wexagraph"] = set()
        while True:
            grown = {name: to | {far for near in to for far in reached[near]} for name, to in reached.items()}
            if grown == reached:
                break
            reached = grown
        self.assertEqual([name for name, to in reached.items() if name in to], [])

    def test_imports_run_one_way(self) -> None:
        order = {name: number for number, name in enumerate(rooms())}
        self.assertEqual(
            {path.name for path in SOURCE.iterdir() if (path / "__init__.py").exists()},
            set(order),
            "each room is drawn",
        )
        wrong = [
            f"{name} -> {to}"
            for name, reached in graph().items()
            for to in reached
            if room(name) and room(to) and order[room(to)] > order[room(name)]
        ]
        self.assertEqual(wrong, [])

    def test_what_is_for_all_imports_no_room(self) -> None:
        wrong = [
            f"{name} -> {to}"
            for name, reached in graph().items()
            if not room(name) and name != "wexagraph"
            for to in reached
            if room(to)
        ]
        self.assertEqual(wrong, [])

    def test_only_the_command_line_knows_a_terminal(self) -> None:
        known = modules()
        wrong = [
            f"{name} -> {to}"
            for name, path in known.items()
            if room(name) != "cli"
            for to in imports(path, known)
            if to.partition(".")[0] in INTERFACE
        ]
        self.assertEqual(wrong, [])

    def test_the_tree_is_drawn_as_it_is(self) -> None:
        drawn = re.findall(r"(?m)^ *([\w/]+)/ ([\w ]+)$", CONTRIBUTING.partition("```text")[2].partition("```")[0])
        self.assertEqual({place: names.split() for place, names in drawn}, tree())


class Walk(ProgramTest):
    """What CONTRIBUTING.md promises: a new thing is one module and one line. (Formats and mailbox kinds are tried in the
    contract suites.)"""

    def test_add_a_command(self) -> None:
        from tests import hello_command

        with (
            mock.patch.dict(sys.modules, {"wexagraph.cli.hello": hello_command}),
            mock.patch.dict(PROGRAMS, {"hello": ("hello", MAKE, "Say hello.")}),
        ):
            self.assertIn("Say hello.", self.call_program("--help").stdout)
            self.assertIn("1 message chosen: 1 written", self.call_program("hello").stdout)
            self.assertEqual(json.loads(self.call_program("hello", "--json").stdout)["written"], 1)

    def test_add_a_column(self) -> None:
        self.write("in.mbox", mbox(letter("=Fog")))
        with (
            mock.patch.object(
                register, "COLUMNS", [*register.COLUMNS, Column("letters", lambda row: len(row.facts[4]))]
            ),
            mock.patch.object(
                message_columns, "COLUMNS", [*COLUMNS, Column("shout", lambda each: "=" + each.envelope.id)]
            ),
        ):
            self.call_program("export", "in.mbox", "--into", "out", "--as", "eml")
            rows = self.call_program("list", "in.mbox", "--csv", "--columns", "id,shout").stdout.splitlines()
        table = (self.folder / "out/register.csv").read_text("utf-8-sig").splitlines()
        self.assertEqual([line.split(",")[-2] for line in table], ["Letters", "4"])
        self.assertRegex(rows[1], r",'=\w{10}$", "the writer escapes")


def tree() -> dict[str, list[str]]:
    """The modules of each folder, without their endings."""
    names: dict[str, list[str]] = {}
    for path in sorted(SOURCE.rglob("*.py")):
        if path.name != "__init__.py" and path.parent != SOURCE:
            names.setdefault(str(path.parent.relative_to(SOURCE)), []).append(path.stem)
    return names


if __name__ == "__main__":
    unittest.main()


_TRACER = """
import os, sys, threading
met = set()
def note(frame, event, argument, mark="/wexagraph/"):
    code = frame.f_code
    # functions, not what runs as a module loads; said at once, since a worker may be ended at any time
    if event == "call" and code.co_flags & 1 and mark in code.co_filename and code.co_filename not in met:
        met.add(code.co_filename)
        with open(os.environ["WALKED"], "a") as out:
            out.write(code.co_filename.rpartition(mark)[2].removesuffix(".py") + chr(10))
if "WALKED" in os.environ:
    sys.setprofile(note)
    threading.setprofile(note)
"""


class Ways(ProgramTest):
    """CONTRIBUTING.md tells how a call walks through the house: by the modules that it names, and by few others."""

    def setUp(self) -> None:
        super().setUp()
        self.write("sitecustomize.py", _TRACER)
        answer = letter("Re: Mooring chain", more="In-Reply-To: <chain@quaysurvey.example>\n")
        chain = letter("Mooring chain", more="Message-ID: <chain@quaysurvey.example>\n")
        self.write("box.mbox", mbox(chain, answer, letter_with(("plan.txt", "text/plain", b"quay"), subject="Plan")))

    def walk(self, *calls: tuple[str, ...]) -> set[str]:
        """The modules that calls meet, with their workers, but for those of the command line."""
        walked = self.folder / "walked"
        env = {"PYTHONPATH": str(self.folder), "WALKED": str(walked), "WEXAGRAPH_RECORDS": str(self.folder / "records")}
        for call in calls:
            self.run_program(*call, env=env)
        return set(walked.read_text().split())

    def test_each_is_as_it_is_told(self) -> None:
        told = dict(re.findall(r"(?s)\*\*([^*]+)\.\*\* (.*?)\n\n", CONTRIBUTING.partition("## Six ways")[2]))
        ways: dict[str, tuple[list[tuple[str, ...]], int]] = {
            "An export": ([("export", "box.mbox", "--into", "a", "--as", "pdf,eml")], 113),
            "A bound PDF": ([("export", "box.mbox", "--into", "b", "--bind", "conversation")], 125),
            "Attachments alone": ([("attachments", "box.mbox", "--into", "c", "--as", "native,pdf")], 110),
            "An order": (
                [
                    ("order", "add", "o", "--", "export", "box.mbox", "--into", "d", "--as", "eml"),
                    ("order", "run", "o"),
                ],
                85,
            ),
            "Filing by plan": (
                [
                    ("case", "open", "1", "Chains", "--match", "subject=chain"),
                    ("file", "box.mbox", "--by-plan", "--as", "eml"),
                ],
                85,
            ),
            "A backup, and its proof": ([("backup", "box.mbox", "--into", "e"), ("verify", "e")], 72),
        }
        self.assertEqual(told.keys(), ways.keys())
        for name, (calls, most) in ways.items():
            with self.subTest(name):
                (self.folder / "walked").unlink(missing_ok=True)
                met = self.walk(*calls)
                named = set(re.findall(r"`([a-z]+(?:/[a-z_]+)+)`", told[name]))
                self.assertEqual({place for place in named if place not in met}, set())
                others = sorted(place for place in met if not place.startswith("cli/"))
                print(f"{name}: {len(others)} modules: {' '.join(others)}")
                self.assertLessEqual(len(others), most)
