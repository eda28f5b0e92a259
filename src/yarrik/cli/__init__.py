"""The command line: Typer commands, and how results look. No computation here."""

from __future__ import annotations

import gc
import importlib
import os
import signal
import sys
import threading
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NoReturn

import typer

from yarrik.cli.terminal import show_safely
from yarrik.errors import Place, Trouble, YarrikError

app = typer.Typer(
    name="yarrik",
    help="Composes board images from recipes: resolved, built in cached steps, checked, and the same bytes everywhere.",
    no_args_is_help=True,
    rich_markup_mode="rich",
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
    epilog="Begin with [bold]yarrik demo[/bold]: it lays out an example workspace and builds it.",
)


#: The modules with the commands that each registers; they are listed in this order, which is that of a first day.
MODULES = {
    "demo": ("demo",), "new": ("new",), "shelf": ("shelf",), "catalogue": ("catalogue",), "workspace": ("workspace",),
    "choose": ("choose",), "check": ("check",), "resolve": ("resolve", "why", "why-not"), "build": ("build", "fetch", "plan"),
    "prove": ("prove",), "outdated": ("outdated",),
    "timeline": ("timeline",), "boot": ("boot",), "enter": ("enter",), "edit": ("edit",),
    "find": ("find",),
    "look": ("log", "show", "schema"), "inspect": ("inspect",), "flash": ("devices", "flash"),
    "sign": ("sign",), "update": ("update",), "console": ("console",), "serve": ("serve",),
    "pack": ("pack",), "devicetree": ("devicetree",),
    "kernel": ("kernel",), "cache": ("cache",), "settings": ("settings",), "terms": ("terms",), "codes": ("codes", "explain"),
}  # fmt: skip


def _modules_for(words: Sequence[str], environment: Mapping[str, str]) -> list[str]:
    """The modules that a command line needs: for a command its own, since describing all of them to the library takes longer
    than most commands do; for help, unknown words, and the completion of a command's name all."""
    if _completes(environment):
        # The line as the shell's script hands it on; its last word is the one that is completed.
        line = environment.get("COMP_WORDS") or environment.get("_TYPER_COMPLETE_ARGS") or ""
        words = line.split()[1:] if line.endswith(" ") else line.split()[1:-1]
    named = [module for module, commands in MODULES.items() if words and words[0] in commands]
    if list(words) == ["--version"]:
        named = ["codes"]
    return named or list(MODULES)


def _completes(environment: Mapping[str, str]) -> bool:
    """Whether a shell asks what a command line could go on with."""
    return any(name.endswith("_COMPLETE") for name in environment)


def _without_parameters(group: typer.Typer) -> None:
    """Leaves of each command what a list of commands shows: its name and help. The library would look at the parameters of all
    of them, which takes longer than the rest of `yarrik --help`."""
    for command in group.registered_commands:
        called = command.callback

        def shown() -> None: ...

        shown.__doc__ = called.__doc__ if called is not None else None
        shown.__name__ = called.__name__ if called is not None else ""
        command.callback = shown
    for inner in group.registered_groups:
        if inner.typer_instance is not None:
            inner.typer_instance.registered_commands = []
            inner.typer_instance.registered_groups = []


def _version(wanted: bool) -> None:
    if wanted:
        from yarrik import __version__

        typer.echo(f"yarrik {__version__}")
        raise typer.Exit


@app.callback()
def _top(
    version: bool = typer.Option(False, "--version", callback=_version, is_eager=True, help="Says the version, and ends."),
) -> None:
    pass


def _interrupted(number: int, frame: object) -> None:
    """The first Ctrl-C, or request to end, ends the work in good order; a second one ends it at once."""
    global _asked_to_end
    if _asked_to_end:
        from yarrik.run import kill_all

        kill_all()
        sys.stderr.write("\nstopped at once; finished steps are kept\n")
        sys.stderr.flush()
        # Nothing is in danger: what is written appears whole or not at all.
        os._exit(128 + number)
    _asked_to_end = True
    sys.stderr.write("\nstopping what runs; press Ctrl-C again to stop at once\n")
    sys.stderr.flush()
    # Our own code may be in the middle of something long, in another thread: it does not hold the end up.
    threading.Thread(target=_end_after, args=(number,), daemon=True).start()
    raise KeyboardInterrupt


def _end_after(number: int) -> None:
    from yarrik.run import GRACE, kill_all

    time.sleep(GRACE)
    kill_all()
    time.sleep(0.8)  # threads that wait for a step return now, and the normal exit may still come first
    sys.stderr.write("stopped; finished steps are kept, build again to continue\n")
    sys.stderr.flush()
    os._exit(128 + number)


_asked_to_end = False


def main() -> NoReturn:
    """The console command. Exit code 0: done, 1: the work failed, 2: the request was wrong, 70: a fault."""
    # Nearly all that is made lives until the end: looking for rings among it again and again would only take time.
    gc.set_threshold(200_000, 20, 20)
    for name in _modules_for(sys.argv[1:], os.environ):
        importlib.import_module(f"yarrik.cli.{name}")
    if sys.argv[1:] in (["--help"], ["-h"], []) and not _completes(os.environ):
        _without_parameters(app)

    show_safely()
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        if signal.getsignal(number) is not signal.SIG_IGN:
            signal.signal(number, _interrupted)
    try:
        app()
    except YarrikError as error:
        from yarrik.cli.view import show_error

        show_error(error, as_json="--json" in sys.argv[1:])
        sys.exit(error.exit_code)
    except BrokenPipeError:  # the reader of our output has closed it
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        sys.exit(128 + signal.SIGPIPE)
    except OSError as error:  # a full disk, a folder without rights: where no better word was found nearer to it
        from yarrik.cli.view import show_error

        place = Place(Path(str(error.filename)) if error.filename else None)
        trouble = Trouble(
            "IO-FAILED", error.strerror or str(error), place, remedy="check free space and permissions, then try again"
        )
        show_error(YarrikError(trouble, "work"), as_json="--json" in sys.argv[1:])
        sys.exit(1)
    except Exception as error:
        from yarrik.cli.faults import EXIT_CODE, fault_trouble
        from yarrik.cli.view import show_error

        show_error(fault_trouble(error), as_json="--json" in sys.argv[1:])
        sys.exit(EXIT_CODE)
    finally:
        # The interpreter would go through all that is left before it ends, for a tenth of the time of a small build.
        gc.freeze()
    sys.exit(0)
