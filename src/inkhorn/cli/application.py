"""The command line as one: its commands, and how it ends."""

from __future__ import annotations

import os
import sys
import warnings
from typing import Annotated, Any

import typer

from inkhorn.cli.terminal import MANNER, Listener, say, show_warning
from inkhorn.errors import InputError
from inkhorn.stopping import asked_to_stop, stopping_like_ctrl_c

__all__ = ["app", "main"]

_INTERRUPTED = 130  # what typer exits with

app = typer.Typer(
    help="Groundwater in layered aquifers: flow, contaminants, particle paths, and how well they fit what was "
    "measured.\n\nBegin with `inkhorn demo`, or with `inkhorn new FOLDER` and your own data.",
    no_args_is_help=True,
    rich_markup_mode="markdown",
    pretty_exceptions_enable=False,
)


def _version(asked: bool) -> None:
    if asked:
        from inkhorn import __version__

        say(f"Inkhorn {__version__}", asked=True)
        raise typer.Exit


@app.callback()
def _options(
    quiet: Annotated[
        bool, typer.Option("--quiet", "-q", help="Say only what is or may be wrong, and what was asked for.")
    ] = False,
    verbose: Annotated[
        bool, typer.Option("--verbose", "-v", help="Say what is being done, too, and when.")
    ] = False,
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Say which version this is.")
    ] = False,
) -> None:
    if quiet and verbose:
        raise InputError("--quiet and --verbose ask for opposite things. Give one of them.")
    MANNER.quiet, MANNER.verbose = quiet, verbose


def _leave_what_the_disk_refused() -> None:
    """End at once where records could not be written: h5py would try to close their file at every turn, and complain."""
    from inkhorn.files.steps import refused

    if refused():
        for stream in (sys.stdout, sys.stderr):
            stream.flush()
        os._exit(1)


def _command() -> Any:
    """The whole command line; its help names what is to be given and not which Python type that is."""
    command = typer.main.get_command(app)

    def named(one: Any) -> None:
        for parameter in one.params:
            parameter.display_type_rich = lambda ctx, said=parameter: (
                "" if said.metavar is None or said.param_type_name == "argument" else said.metavar
            )
        for below in getattr(one, "commands", {}).values():
            named(below)

    named(command)
    return command


def _manner_first(words: list[str]) -> list[str]:
    """What is asked of every command stands before it, wherever it was typed."""
    asked = [word for word in words if word in ("--quiet", "--verbose")]
    return [*asked, *(word for word in words if word not in asked)]


def main() -> None:
    """Run the command line: exit code 0 fine, 1 a problem in the run, 2 bad input."""
    warnings.showwarning = show_warning
    streams = sys.stdout, sys.stderr
    sys.stdout, sys.stderr = Listener(streams[0]), Listener(streams[1])
    try:
        with stopping_like_ctrl_c():
            _command()(_manner_first(sys.argv[1:]), standalone_mode=True)
    except SystemExit as end:
        if end.code != _INTERRUPTED:
            raise
        sys.exit(1)
    except Exception as problem:
        from inkhorn.errors import InkhornError, InputError

        if asked_to_stop():
            say("interrupted; nothing was left half-written", error=True)
            sys.exit(1)
        if isinstance(problem, OSError):  # a full disk, a folder that may not be written
            named = f": {problem.filename}" if problem.filename else ""
            say(f"error: {problem.strerror or problem}{named}. Nothing was left half-written.", error=True)
            _leave_what_the_disk_refused()
            sys.exit(1)
        if not isinstance(problem, InkhornError):
            raise
        for line in str(problem).splitlines():
            say(line if line.startswith("error: ") else f"error: {line}", error=True)
        sys.exit(2 if isinstance(problem, InputError) else 1)
    finally:
        for stream in (sys.stdout, sys.stderr):
            stream.flush()
        sys.stdout, sys.stderr = streams
        # an interrupt that met Python within `exec`, as dataclasses use it, leaves a mark by which it would end with
        # SIGINT though all was put in order; the next `exec` takes it away
        exec("pass")
