"""Help: options in sections, examples for each command, first steps; and `wexagraph help COMMAND`."""

from __future__ import annotations

import click

from wexagraph.app.rows import RUN, SECTIONS
from wexagraph.cli.options import RowOption
from wexagraph.errors import CallError

EXAMPLES: dict[str, tuple[str, ...]] = {
    "folders": ("wexagraph folders mailbox", "wexagraph folders @office --csv"),
    "list": ("wexagraph list mailbox --from ines --since 2026-03", "wexagraph list @office --attached '*.pdf' --csv"),
    "doubles": ("wexagraph doubles @office", "wexagraph doubles @office stick --since 2026-01 --csv"),
    "pick": (
        "wexagraph pick mailbox --save quay",
        "wexagraph pick mailbox | wexagraph export mailbox --into quay --id -",
    ),
    "sets": ("wexagraph sets", "wexagraph sets --remove quay"),
    "show": ("wexagraph show mailbox 9qha374fdy", "wexagraph show mailbox 9qha374fdy --headers"),
    "survey": ("wexagraph survey mailbox", "wexagraph survey @office --since 2024 --into survey.pdf"),
    "addresses": (
        "wexagraph addresses mailbox --since 2026-01",
        "wexagraph addresses @office --mine records@saltmere.example --into addresses.xlsx",
    ),
    "register": (
        "wexagraph register mailbox --folder Berths --into berths.xlsx --column 'Due date'",
        "wexagraph register @office --into office.csv --columns date,from,subject,first_line",
    ),
    "export": (
        "wexagraph export mailbox --into exhibits --as pdf,eml --with ines --numbered MOOR-",
        "wexagraph export @office --folder Berths --into berths --bind conversation --cover",
    ),
    "send": (
        "wexagraph send mailbox --from ines --send-to lawyer@court.example",
        "wexagraph send --case 2026-118 --as eml --send-to lawyer@court.example --by smtps://records@mail.saltmere.example/",
    ),
    "deliver": (
        "wexagraph deliver export --into /mnt/office/records",
        "wexagraph deliver export --into davs://ines@files.saltmere.example/court",
    ),
    "seal": (
        "wexagraph seal export --seal office.p12 --stamp http://stamps.saltmere.example/",
        "wexagraph seal export --renew --stamp http://stamps.saltmere.example/",
    ),
    "place": (
        "wexagraph place add court davs://ines@files.saltmere.example/court",
        "wexagraph place check court",
    ),
    "attachments": (
        "wexagraph attachments mailbox --into files --attached '*.pdf'",
        "wexagraph attachments @office --into scans --attached 'image/*' --as native,pdf --ocr eng",
    ),
    "case": (
        "wexagraph case open 2026-118 'The quarrel over buoy 14' --match 'subject=buoy 14' --keep 7y",
        "wexagraph case list --state due",
    ),
    "file": (
        "wexagraph file mailbox --subject 'buoy 14' --case 2026-118",
        "wexagraph file @office --by-plan --dry-run",
    ),
    "find": (
        "wexagraph find 'mooring chain'",
        "wexagraph find survey --case 2026-118 --since 2026-03",
    ),
    "account": (
        "wexagraph account add office imaps://records@mail.saltmere.example/",
        "wexagraph account check office",
    ),
    "order": (
        "wexagraph order add dues --every 1h -- export @office --subject dues --into dues",
        "wexagraph order run --due",
    ),
    "index": (
        "wexagraph index export",
        "wexagraph index stick --into stick-to-read --office 'Port office of Saltmere'",
    ),
    "open": ("wexagraph open export", "wexagraph open 9qha374fdy --in export"),
    "backup": ("wexagraph backup @office --into stick", "wexagraph backup mailbox --into stick --lock"),
    "runs": ("wexagraph runs stick", "wexagraph runs stick --json"),
    "restore": ("wexagraph restore stick --into back.mbox", "wexagraph restore stick --folder Berths --into @office"),
    "compare": (
        "wexagraph compare @office stick --deep",
        "wexagraph compare @office export --since 2026-01 --into certificate.pdf",
    ),
    "copy": ("wexagraph copy stick --into disk", "wexagraph copy stick --into disk --json"),
    "join": ("wexagraph join stick", "wexagraph join stick --volume-size 2GB"),
    "verify": ("wexagraph verify export", "wexagraph verify stick --deep"),
    "config": ("wexagraph config export", "wexagraph config backup --json"),
    "demo": ("wexagraph demo", "wexagraph demo --into tryout"),
    "completion": ("wexagraph completion bash >> ~/.bashrc", "wexagraph completion fish | source"),
    "help": ("wexagraph help export", "wexagraph help"),
}
FIRST_STEPS = """Wexagraph turns mail into files that stand alone.

  wexagraph demo                        a mailbox to try things on
  wexagraph folders MAILBOX             folders of a path or imaps://user@host/
  wexagraph list MAILBOX --from ines    messages by sender, subject, date, text
  wexagraph export MAILBOX --into DIR   each as a PDF, under a name that sorts
  wexagraph backup MAILBOX --into DIR   an offline copy, topped up by the same

`wexagraph help COMMAND` explains one, `wexagraph --help` lists all."""


def dress(command: click.Command) -> click.Command:
    """Give a command help in sections, with its examples."""
    command.__class__ = _DressedGroup if isinstance(command, click.Group) else _Dressed
    return command


class _DressedGroup(click.Group):
    """A group of commands as it explains itself."""

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        commands = [(name, self.get_command(ctx, name)) for name in self.list_commands(ctx)]
        with formatter.section("Commands"):
            formatter.write_dl([(name, one.get_short_help_str(500)) for name, one in commands if one is not None])

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        _examples(self, formatter)


class _Dressed(click.Command):
    """A command as it explains itself."""

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        _sections(self, ctx, formatter)

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        _examples(self, formatter)


def _sections(command: click.Command, context: click.Context, formatter: click.HelpFormatter) -> None:
    rows: dict[str, list[tuple[str, str]]] = {section: [] for section in SECTIONS}
    for parameter in command.get_params(context):
        record = parameter.get_help_record(context)
        if record is not None and isinstance(parameter, click.Option):
            rows[parameter.row.section if isinstance(parameter, RowOption) else RUN].append(record)
    filled = {section: its for section, its in rows.items() if its}
    for section, its in filled.items():
        with formatter.section(section if len(filled) > 1 else "Options"):
            formatter.write_dl(its)


def _examples(command: click.Command, formatter: click.HelpFormatter) -> None:
    examples = EXAMPLES.get(command.name or "")
    if examples:
        with formatter.section("Examples"):
            for example in examples:
                formatter.write_text(f"$ {example}")


@click.command("help")
@click.argument("name", metavar="[COMMAND]", required=False)
@click.pass_context
def command(context: click.Context, name: str | None) -> int:
    """Explain COMMAND, or list all commands."""
    root = context.find_root()
    group = root.command
    assert isinstance(group, click.Group)
    if name is None:
        click.echo(root.get_help())
        return 0
    wanted = group.get_command(root, name)
    if wanted is None:
        raise CallError(f"there is no command {name!r}. `wexagraph help` lists them.")
    click.echo(wanted.get_help(click.Context(wanted, info_name=name, parent=root)))
    return 0
