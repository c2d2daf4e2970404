"""A choice and options go to plain values and back, so that an order or a case can keep them."""

from __future__ import annotations

import json
import tomllib
import unittest
from zoneinfo import ZoneInfo

from wexagraph.app.attachment_options import ATTACHMENT_DEFAULTS, attachment_options
from wexagraph.app.options import export_options
from wexagraph.errors import CallError
from wexagraph.naming.patterns import NamePattern
from wexagraph.pages.options import ALLOWED, Margins
from wexagraph.selection.choice import Choice
from wexagraph.selection.criteria import Criterion

CHOICES = [
    Choice(),
    Choice(folders=("Berths", "Berths/East")),
    Choice(criteria=(Criterion("from", "ines"), Criterion("from", "wray"), Criterion("since", "2026-03-01"))),
    Choice(criteria=(Criterion("seen", ""), Criterion("attached", "*.xlsx"), Criterion("larger", "20KB"))),
    Choice(exceptions=(Criterion("from", "*@list.example"), Criterion("unseen", ""), Criterion("subject", "a=b"))),
    Choice(ids=frozenset({"abc", "def"}), newest=5, zone=ZoneInfo("Europe/Lisbon")),
    Choice(ids=frozenset()),
]


class PlainData(unittest.TestCase):
    def test_a_choice_comes_back(self) -> None:
        for choice in CHOICES:
            with self.subTest(choice):
                self.assertEqual(Choice.from_dict(json.loads(json.dumps(choice.to_dict()))), choice)

    def test_a_choice_of_a_person(self) -> None:
        written = 'from = "ines"\nsubject = ["quay", "berth"]\nexcept = ["folder=Sent"]\nseen = true\nnewest = 3\n'
        choice = Choice.from_dict(tomllib.loads(written))
        self.assertEqual(
            [(c.name, c.value) for c in choice.criteria],
            [("from", "ines"), ("subject", "quay"), ("subject", "berth"), ("seen", "")],
        )
        self.assertEqual((choice.exceptions[0].value, choice.newest), ("Sent", 3))

    def test_what_is_wrong_in_a_choice(self) -> None:
        for values, said in (
            ({"fron": ["ines"]}, "no 'fron'. Did you mean from"),
            ({"since": "yesterday week"}, "--since: 'yesterday week'"),
            ({"except": ["from"]}, "has no value"),
        ):
            with self.subTest(values), self.assertRaisesRegex(CallError, said):
                Choice.from_dict(values)

    def test_options_of_an_export(self) -> None:
        plain = {
            "as": ["pdf", "eml"],
            "name": "{date:%Y}/{subject}",
            "flat": True,
            "zone": "Europe/Lisbon",
            "paper": "a5",
            "scale": "80%",
            "attachments": "pages,embed",
            "property": ["title={subject}"],
            "tag": ["{date:%Y}"],
            "jobs": 2,
            "margin": 20,
        }
        options = export_options(json.loads(json.dumps(plain)))
        self.assertEqual((options.formats, options.flat, options.page.scale), (("pdf", "eml"), True, 0.8))
        self.assertEqual((options.page.zone, options.page.paper, options.jobs), ("Europe/Lisbon", "a5", 2))
        self.assertEqual(options.page.margin, Margins(20, 20, 20, 20))
        self.assertEqual([tag.text for tag in options.tags], ["{date:%Y}"])
        self.assertEqual(dict(options.page.properties)["title"].text, "{subject}")
        self.assertEqual(
            (options.pattern, options.page.attachments), (NamePattern("{date:%Y}/{subject}"), ("embed", "pages"))
        )
        unsaid = export_options({})
        self.assertEqual(
            (unsaid.formats, unsaid.registers, unsaid.page.margin), (("pdf",), ("csv",), Margins(*[18] * 4))
        )
        self.assertIsNone(export_options({}).lock)
        with self.assertRaisesRegex(CallError, "no option 'papr'. Did you mean paper"):
            export_options({"papr": "a4"})

    def test_no_password_goes_over_an_open_line(self) -> None:
        for option in ("password", "owner-password"):
            with self.assertRaisesRegex(CallError, "in the open over tcp://"):
                export_options({option: "prompt", "cluster": "tcp://desk:8786"}, lambda what, new: self.fail("asked"))

    def test_a_secret_is_named_and_never_kept(self) -> None:
        asked: list[str] = []

        def prompt(what: str, new: bool) -> str:
            asked.append(what)
            return "harbour"

        options = export_options({"password": "prompt", "zone": "UTC"}, prompt)
        assert options.lock is not None
        self.assertEqual((options.lock.user, options.lock.allow, asked), ("harbour", ALLOWED, ["Password"]))
        with self.assertRaisesRegex(CallError, "no terminal to ask at"):
            export_options({"password": "prompt"})

    def test_options_of_attachments(self) -> None:
        plain = {"name": "{filename}", "file-larger": "20KB", "attached": ["*.pdf", "*"], "once": True, "jobs": 1}
        options = attachment_options(json.loads(json.dumps(plain)))
        self.assertEqual((options.larger, options.wanted, options.once), (20480, ("*.pdf",), True))
        self.assertEqual(attachment_options({}), attachment_options(ATTACHMENT_DEFAULTS))


if __name__ == "__main__":
    unittest.main()
