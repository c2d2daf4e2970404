"""Where the program starts. Until a command runs nothing is begun: Ctrl-C ends the process, with nothing to say."""

import signal

signal.signal(signal.SIGINT, signal.SIG_DFL)


def run() -> None:
    """Entry point."""
    from wexagraph.cli.main import run

    run()
