"""Arguments and options that several commands share, and how they find their workspace."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

if TYPE_CHECKING:
    from yarrik.model import Composition, Workspace
    from yarrik.run import Choices, Question, Session


def _workspace_here() -> Workspace | None:
    """The workspace around the current folder, for completion; None when there is none that can be read."""
    from yarrik.errors import YarrikError
    from yarrik.model import find_workspace

    try:
        return workspace_at(find_workspace(Path.cwd()))
    except (YarrikError, OSError):
        return None


def workspace_at(root: Path) -> Workspace:
    """The definitions of a workspace alone, for commands that only look. Raises YarrikError."""
    from yarrik.cache import Memory
    from yarrik.model import open_workspace

    file = root / ".yarrik" / "memory.sqlite"
    return open_workspace(root, Memory(file) if file.exists() else None)


def names_of(*kinds: str) -> Callable[[str], list[str]]:
    """Completes the names of the workspace's definitions of these kinds; `package` and `option` are kinds too."""

    def complete(incomplete: str) -> list[str]:
        from yarrik.errors import YarrikError
        from yarrik.model import find_workspace, names_in

        known: set[str] = set()
        workspace = _workspace_here() if {"package", "option"} & set(kinds) else None
        for kind in kinds:
            if kind not in ("package", "option"):
                with suppress(YarrikError, OSError):
                    known |= names_in(find_workspace(Path.cwd()), kind)
                continue
            for name, shelved in workspace.readable("recipe") if workspace is not None else ():
                raw = shelved.document.raw
                if kind == "package":
                    known |= raw.get("package", {name: None}).keys()
                else:
                    known |= {f"options.{name}.{option}=" for option in raw.get("options", {})}
        return sorted(name for name in known if name.startswith(incomplete))

    return complete


def _variants(incomplete: str) -> list[str]:
    """Completes the last name of a list of variants."""
    before, comma, last = incomplete.rpartition(",")
    return [f"{before}{comma}{name}" for name in names_of("variant")(last)]


ProductArgument = Annotated[
    str | None,
    typer.Argument(
        metavar="[PRODUCT]", help="The product; without it the workspace's own choice.", autocompletion=names_of("product")
    ),
]
ProductOption = Annotated[
    str | None,
    typer.Option("--product", metavar="PRODUCT", help="The product, in every command; without it the workspace's own choice.",
                 autocompletion=names_of("product")),
]  # fmt: skip
JsonOption = Annotated[bool, typer.Option("--json", help="Prints one JSON document instead of text.")]
WorkspaceOption = Annotated[
    Path | None,
    typer.Option("--workspace", metavar="FOLDER", help="The workspace; without it the one around the current folder."),
]
SandboxOption = Annotated[bool, typer.Option("--no-sandbox", help="Runs steps as plain processes that can see this machine.")]
WithOption = Annotated[
    list[str] | None,
    typer.Option("--with", metavar="VARIANT,…", help="Applies variants to the product, in order; -NAME leaves its own out.",
                 autocompletion=_variants),
]  # fmt: skip
SetOption = Annotated[
    list[str] | None,
    typer.Option("--set", metavar="KEY=VALUE", help="Sets one value over all files: image.hostname=gull, options.NAME.x=true; "
                 "yarrik schema image hostname says what a key is for.",
                 autocompletion=names_of("option")),
]  # fmt: skip
LockedOption = Annotated[bool, typer.Option("--locked", help="Fails when yarrik.lock is not what the product resolves to.")]


@contextmanager
def opened(folder: Path | None, choices: Choices | None = None) -> Iterator[Session]:
    """The session of a workspace, closed afterwards."""
    from yarrik.model import find_workspace
    from yarrik.run import Session

    session = Session(find_workspace((folder or Path.cwd()).absolute()), choices)
    try:
        yield session
    except KeyboardInterrupt:
        typer.echo("stopped; finished steps are kept, build again to continue", err=True)
        raise typer.Exit(130) from None
    finally:
        session.close()


def question_of(
    workspace: Path | None,
    product: str | None,
    variants: list[str] | None,
    settings: list[str] | None,
    use_sandbox: bool = True,
    locked: bool = False,
    offline: bool = False,
) -> Question:
    """The way of asking for one product, by which it is remembered."""
    from yarrik.model import find_workspace
    from yarrik.run import Question

    root = find_workspace((workspace or Path.cwd()).absolute())
    return Question(root, product, tuple(variants or ()), tuple(settings or ()), use_sandbox, locked, offline)


def composed(session: Session, product: str | None, variants: list[str] | None, settings: list[str] | None) -> Composition:
    """The product with variants, the environment's settings and those of the command line."""
    from yarrik.model import Overrides

    return session.planner.compose(product, Overrides.of(variants or (), os.environ, settings or ()))
