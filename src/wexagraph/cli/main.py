"""The command `wexagraph`: finds the subcommand, reads the configuration, decides the exit code."""

from __future__ import annotations

import gc
import os
import re
import signal
import sqlite3
import sys
from importlib import import_module

import click

import wexagraph
from wexagraph.app.secrets import from_environment
from wexagraph.cli.exits import ANEW, GOES_ON, GOING_ON, INTERRUPTED, OK, SOME_FAILED, UNUSABLE, WRONG_CALL
from wexagraph.cli.help import FIRST_STEPS, dress
from wexagraph.errors import CallError, Refused, SourceError, TargetError, WexagraphError
from wexagraph.temporary import clear_abandoned

BEGIN, LOOK, CHOOSE, MAKE, HAND_ON, FILE, KEEP, REPEAT, SETTINGS = GROUPS = (
    *("Begin", "Look", "Choose", "Make", "Hand on"),
    *("File", "Keep and prove", "Repeat", "Settings"),
)
"""What commands are for, in the order of the work."""
COMMANDS = {  # name: module, group, and the line that --help shows without loading the module
    "demo": ("demo", BEGIN, "Make the Saltmere demo mailbox and run the full example on it."),
    "help": ("help", BEGIN, "Explain a command."),
    "folders": ("folders", LOOK, "The folders of a source: messages, bytes, oldest, newest."),
    "list": ("listing", LOOK, "The messages of a source, a line each."),
    "show": ("show", LOOK, "One message: its headers, its text, its parts."),
    "survey": ("survey", LOOK, "A mailbox at a glance: when, from whom, of what kinds; where there is no mail."),
    "addresses": ("addresses", LOOK, "Who wrote and was written to: a row an address."),
    "doubles": ("doubles", LOOK, "Messages that are there more than once, in folders and mailboxes."),
    "find": ("find", LOOK, "Find messages in cases, exports and backups by their words."),
    "pick": ("pick", CHOOSE, "Choose messages with the eyes, from a list in the terminal."),
    "sets": ("sets", CHOOSE, "Sets of messages that were kept in a list."),
    "export": ("export", MAKE, "Make files from messages: PDF, EML, HTML, text, mbox, ZIP."),
    "attachments": ("attachments", MAKE, "Only the attachments, in their native formats."),
    "register": ("register", MAKE, "A table that the office works in: XLSX or CSV."),
    "index": ("index", MAKE, "A page to browse for any browser: of an export, a case, a backup, a mailbox."),
    "open": ("opening", MAKE, "Open a folder's page, a file or a message in the system's own viewer."),
    "send": ("send", HAND_ON, "Send messages to others by mail, or lay them among the drafts."),
    "deliver": ("deliver", HAND_ON, "Put what was made where others see it: a share, a disk, a server."),
    "place": ("place", HAND_ON, "Places that are delivered to: add, check, list, forget."),
    "case": ("case", FILE, "Cases of the file plan: open, list, close, hold, and how long they are kept."),
    "file": ("file", FILE, "File messages into a case, or where the file plan says."),
    "backup": ("backup", KEEP, "Start or top up an offline backup of a source."),
    "runs": ("runs", KEEP, "The runs of a backup: when, how many new and gone, bytes, errors."),
    "restore": ("restore", KEEP, "Give messages of a backup back: mbox, Maildir, EML, ZIP, an account."),
    "verify": ("verify", KEEP, "Prove a backup or an export folder whole, or say what is not."),
    "seal": ("seal", KEEP, "Seal and stamp what was made, so that others can prove it."),
    "compare": ("compare", KEEP, "Does a folder, a backup or another mailbox hold all of a source?"),
    "copy": ("copy", KEEP, "Bring a copy of a backup on another disk up to date."),
    "join": ("join", KEEP, "Join the small volumes of a backup into few."),
    "order": ("order", REPEAT, "Standing orders: a command kept under a name, done by the clock or on arrival."),
    "account": ("account", SETTINGS, "Accounts on a server: add, check, list, forget."),
    "config": ("settings", SETTINGS, "What holds for a command's options, and where each value comes from."),
    "completion": ("completion", SETTINGS, "What a shell has to source to complete commands and names."),
}


class Stopped(click.ClickException):
    """Somebody stopped a command before its end; the message says what the same command does next."""


class Commands(click.Group):
    """Loads a command's module when the command runs, so that each starts with what it needs and no more."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        if name not in COMMANDS:
            return None
        command: click.Command = import_module(f"wexagraph.cli.{COMMANDS[name][0]}").command
        return dress(command)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in COMMANDS and not args[0].startswith("-"):
            from difflib import get_close_matches

            near = get_close_matches(args[0], COMMANDS, n=1)
            hint = f" Did you mean {near[0]}?" if near else ""
            raise click.UsageError(f"there is no command {args[0]!r}.{hint} `wexagraph --help` lists them.", ctx)
        return super().resolve_command(ctx, args)

    def invoke(self, ctx: click.Context) -> object:
        try:
            return super().invoke(ctx)
        except (KeyboardInterrupt, click.Abort):
            raise Stopped(f"interrupted. {GOES_ON if ctx.invoked_subcommand in GOING_ON else ANEW}") from None

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        for group in GROUPS:
            with formatter.section(group):
                formatter.write_dl([(name, line) for name, (_, its, line) in COMMANDS.items() if its == group])


def _show_version(context: click.Context, _: click.Parameter, wanted: bool) -> None:
    """The version, and those of the parts that make pages: what a report of a fault has to name."""
    if wanted and not context.resilient_parsing:
        from wexagraph.pages.engines import page_parts

        click.echo(f"wexagraph {wexagraph.__version__}\nPages by {page_parts()}")
        context.exit()


@click.command(
    cls=Commands,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 80},
)
@click.option(
    "-V",
    "--version",
    is_flag=True,
    is_eager=True,
    expose_value=False,
    callback=_show_version,
    help="Say which version.",
)
@click.option("--config", type=click.Path(dir_okay=False), help="Read this configuration file and no other.")
@click.pass_context
def cli(context: click.Context, config: str | None) -> None:
    """Turn mail into files that stand alone.

    A SOURCE is where mail lies: an .eml file, a folder of them, an mbox file or a folder of them, a Maildir, or a
    ZIP of any of these; an account, imaps://user@host/ or pops://user@host/; or @NAME from the configuration.
    It is only ever read.
    """
    if context.invoked_subcommand is None:
        click.echo(FIRST_STEPS)
        return
    from wexagraph.app.configuration import load
    from wexagraph.cli.defaults import is_safe, known_options, set_defaults
    from wexagraph.cli.session import Session

    configuration = load(config, lambda name: name in known_options(context), lambda name: is_safe(context, name))
    set_defaults(context, configuration)
    context.obj = Session(configuration)


def run() -> None:
    """Entry point: run the command, show errors as sentences, leave with the exit code."""
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
    gc.set_threshold(50_000, 20, 20)  # the work makes many small things that live for one message
    for name in ("SIGTERM", "SIGHUP"):
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), _end)
    for variable in ("WEXAGRAPH_PASSWORD", "WEXAGRAPH_PASSPHRASE"):
        from_environment(variable)  # before any child is started
    clear_abandoned()
    if signal.getsignal(signal.SIGINT) == signal.SIG_DFL:
        signal.signal(signal.SIGINT, _interrupt)
    code = code_of_call()
    signal.signal(signal.SIGINT, signal.SIG_DFL)  # all is done and said
    sys.exit(code)


def _interrupt(*_: object) -> None:
    raise KeyboardInterrupt


def _end(number: int, _: object) -> None:
    """Asked to end: as with a second Ctrl-C, what lies open is cleared on the way out."""
    raise KeyboardInterrupt


def code_of_call() -> int:
    """Run the command that the arguments name. Returns its exit code; errors were shown as sentences."""
    try:
        result = cli.main(prog_name="wexagraph", standalone_mode=False)
        return result if isinstance(result, int) else OK
    except click.exceptions.Exit as leaving:
        return leaving.exit_code
    except click.UsageError as error:
        return _say(_in_words(error), WRONG_CALL, error.ctx)
    except (click.Abort, KeyboardInterrupt):
        return _say("interrupted before anything was begun.", INTERRUPTED)
    except click.ClickException as error:
        return _say(error.format_message(), INTERRUPTED if isinstance(error, Stopped) else WRONG_CALL)
    except CallError as error:
        return _say(str(error), WRONG_CALL)
    except Refused as error:
        return _say(str(error), SOME_FAILED)
    except (SourceError, TargetError, WexagraphError) as error:
        return _say(str(error), UNUSABLE)
    except BrokenPipeError:
        # the reader of our output has gone; there is nobody to tell
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return OK
    except OSError as error:
        where = f" {error.filename}" if error.filename else ""
        return _say(f"the system refused{where}: {error.strerror or error}.", UNUSABLE)
    except sqlite3.Error as error:
        return _say(f"a database of ours can't be read: {error}. `wexagraph verify DIR` tells more.", UNUSABLE)
    except Exception as error:
        if os.environ.get("WEXAGRAPH_TRACE"):
            raise
        return _say(
            f"a fault in Wexagraph itself: {type(error).__name__}: {error}. Nothing written so far is lost. "
            "Set WEXAGRAPH_TRACE=1 and run it again to see where.",
            UNUSABLE,
        )


def _in_words(error: click.UsageError) -> str:
    """What was wrong with a call, with what to write instead."""
    message = error.format_message()
    if isinstance(error, click.MissingParameter) and error.param is not None and "--into" in error.param.opts:
        return f"--into {error.param.metavar} is missing: it says where results go."
    path = error.ctx.command_path if error.ctx is not None else ""
    if isinstance(error, click.NoSuchOption) and path.endswith(("order add", "order change")):
        return f"{error.option_name}: put -- in front of the command that is kept: {path} NAME --every 1h -- export ..."
    extra = re.match(r"Got unexpected extra arguments? \((.*)\)", message)
    if extra and error.ctx is not None and any("--into" in parameter.opts for parameter in error.ctx.command.params):
        first = extra[1].split(" ")[0]
        return f"{first}: use --into {first} to say where results go, and quotes around names with spaces."
    span = re.match(r"Invalid value for '(--[\w-]+)': '(.*)' is not a valid (?:float|integer)(?: range)?", message)
    if span and error.ctx is not None:
        for parameter in error.ctx.command.params:
            kind = parameter.type
            if span[1] in parameter.opts and isinstance(kind, click.FloatRange | click.IntRange):
                unit = {"MM": "millimetres", "POINTS": "points", "SECONDS": "seconds"}.get(
                    str(parameter.metavar), "a number"
                )
                most = f" to {kind.max:g}" if kind.max is not None else " on"
                return f"{span[1]} takes {unit} from {kind.min or 0:g}{most}; {span[2]!r} is none."
    low = re.match(r"Invalid value for '(--[\w-]+)': (\S+) is not in the range x>=(\d+)", message)
    if low:
        return f"{low[1]} takes a number from {low[3]} on; {low[2]} is none."
    return re.sub(r"^Invalid value for '(--[\w-]+)': (?=\1 )", "", message)  # the reason names the option itself


def _say(message: str, code: int, context: click.Context | None = None) -> int:
    from wexagraph.text import one_line

    message = one_line(message)
    click.echo(f"wexagraph: {message[:1].lower() + message[1:]}" if context else f"wexagraph: {message}", err=True)
    if context is not None and context.command_path:
        click.echo(f"See `{context.command_path} --help`.", err=True)
    return code
