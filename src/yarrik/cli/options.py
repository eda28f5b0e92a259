"""Arguments and options that several commands share, and how they find their workspace."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

if TYPE_CHECKING:
    from yarrik.run import Session


def _products(incomplete: str) -> list[str]:
    """Completes the names of the workspace's products."""
    from yarrik.errors import YarrikError
    from yarrik.model import find_workspace

    try:
        folder = find_workspace(Path.cwd())
    except YarrikError:
        return []
    return sorted(file.stem for file in folder.glob("products/*.toml") if file.stem.startswith(incomplete))


ProductArgument = Annotated[
    str | None,
    typer.Argument(metavar="[PRODUCT]", help="The product; without it the workspace's own choice.", autocompletion=_products),
]
JsonOption = Annotated[bool, typer.Option("--json", help="Prints one JSON document instead of text.")]
WorkspaceOption = Annotated[
    Path | None,
    typer.Option("--workspace", metavar="FOLDER", help="The workspace; without it the one around the current folder."),
]
SandboxOption = Annotated[bool, typer.Option("--no-sandbox", help="Runs steps as plain processes that can see this machine.")]


@contextmanager
def opened(folder: Path | None, renew_lock: bool = False, use_sandbox: bool = True) -> Iterator[Session]:
    """The session of a workspace, closed afterwards."""
    from yarrik.model import find_workspace
    from yarrik.run import Session

    session = Session(find_workspace((folder or Path.cwd()).absolute()), renew_lock, use_sandbox)
    try:
        yield session
    except KeyboardInterrupt:
        typer.echo("\nstopped; what was finished is kept, build again to go on", err=True)
        raise typer.Exit(130) from None
    finally:
        session.close()
