"""Work on a recipe's sources: a git working tree of them that builds use, and the commits in it as patches on a shelf."""

from __future__ import annotations

import json
import tempfile
from dataclasses import dataclass
from pathlib import Path

import tomlkit
import tomlkit.exceptions

from yarrik.beneath import remove_folder
from yarrik.errors import Place, Trouble, YarrikError, shown_path, suggestion
from yarrik.model import Composition
from yarrik.resolve import Node
from yarrik.run.events import Listener, silent
from yarrik.run.session import EDITS, Session
from yarrik.sources import git

#: Marks the commit that holds what is saved already; at first the sources as they were prepared.
SAVED = "yarrik-saved"
_OURS = {"NAME": "Yarrik", "EMAIL": "yarrik@localhost", "DATE": "2026-01-01T00:00:00Z"}


@dataclass(frozen=True)
class Edit:
    """The working tree of a recipe's sources."""

    session: Session
    recipe: str

    @property
    def folder(self) -> Path:
        return self.session.root / EDITS / self.recipe

    @property
    def is_open(self) -> bool:
        return (self.folder / ".git").is_dir()

    def open(self, composition: Composition, listener: Listener = silent) -> bool:
        """Lays the prepared sources out, on a branch of their own. False when that was done before. Raises YarrikError."""
        if self.is_open:
            return False
        answer = self.session.answer(composition)
        nodes = [node for node in (Node(self.recipe, "board"), Node(self.recipe, "host")) if node in answer.versions]
        if not nodes:
            known = {node.recipe for node in answer.versions}
            raise YarrikError(Trouble("RECIPE-UNKNOWN", f"`{composition.name}` has no recipe `{self.recipe}`",
                                      remedy=suggestion(self.recipe, known)))  # fmt: skip
        steps = {step.name: step for step in self.session.graph(composition).steps}
        build = steps.get(f"build {nodes[0]}")
        if build is None or "source" not in build.inputs:
            raise YarrikError(Trouble("EDIT-NO-SOURCES", f"`{self.recipe}` has no sources that could be edited",
                                      answer.recipe(nodes[0]).place("source"), remedy="edit the recipe itself"))  # fmt: skip
        step, output = build.inputs["source"]
        tree = self.session.store.tree(self.session.run_up_to(composition, step, listener)[output])
        self.folder.parent.mkdir(exist_ok=True)
        fresh = Path(tempfile.mkdtemp(dir=self.folder.parent, prefix=".new-"))
        try:
            self.session.store.lay_out(tree, fresh, writable=True)
            ours = {f"GIT_{who}_{what}": value for who in ("AUTHOR", "COMMITTER") for what, value in _OURS.items()}
            _git(fresh, "init", "--quiet", "--initial-branch=edit")
            _git(fresh, "add", "--all", "--force")
            message = f"{self.recipe} {answer.versions[nodes[0]]}, as prepared"
            _git(fresh, "commit", "--quiet", "--allow-empty", "--no-gpg-sign", "-m", message, environment=ours)
            _git(fresh, "tag", SAVED)
            fresh.chmod(0o755)
            fresh.rename(self.folder)
        except BaseException:
            remove_folder(fresh)
            raise
        return True

    def unsaved(self) -> tuple[list[str], list[str]]:
        """Files that were changed and not committed, and the subjects of commits that are not on a shelf yet."""
        changed = [line[3:] for line in _git(self.folder, "status", "--porcelain").splitlines()]
        return changed, _git(self.folder, "log", "--reverse", "--format=%s", f"{SAVED}..HEAD").splitlines()

    def save(self, shelf: str) -> list[Path]:
        """Writes the commits as patches onto a shelf: into the recipe if it lies there, else into an amendment to it.

        Returns the files that were written. Raises YarrikError, and then nothing has changed."""
        workspace = self.session.workspace
        folders = {choice.name: self.session.root / choice.path for choice in workspace.settings.shelf}
        if shelf not in folders:
            raise YarrikError(Trouble("SHELF-UNKNOWN", f"the workspace has no shelf `{shelf}`", Place(workspace.file),
                                      remedy=suggestion(shelf, folders)))  # fmt: skip
        changed, commits = self.unsaved()
        where = shown_path(self.folder)
        if changed:
            raise YarrikError(
                Trouble("EDIT-UNCOMMITTED", f"{len(changed)} changed files are not committed: {', '.join(changed[:5])}",
                        Place(self.folder), why="each commit becomes a patch, with its message",
                        remedy=f"git -C {where} commit -a (and `add` what is new)")
            )  # fmt: skip
        if not commits:
            raise YarrikError(Trouble("EDIT-NOTHING", "there is no commit that is not saved yet", Place(self.folder),
                                      remedy=f"change something, then git -C {where} commit -a"))  # fmt: skip
        own = workspace.shelved["recipe"][self.recipe]
        file = own.file if own.shelf == shelf else folders[shelf] / "amendments" / f"{self.recipe}.toml"
        text = self._with_patches(file, own.shelf == shelf)
        known = len(list(file.parent.glob("[0-9][0-9][0-9][0-9]-*.patch")))
        file.parent.mkdir(exist_ok=True)
        with tempfile.TemporaryDirectory(dir=file.parent, prefix=".new-") as folder:
            _git(self.folder, "format-patch", "--quiet", "--no-signature", "--zero-commit", "--no-numbered",
                 f"--start-number={known + 1}", f"--output-directory={folder}", f"{SAVED}..HEAD")  # fmt: skip
            made = sorted(Path(folder).iterdir())
            document = text([patch.name for patch in made])
            written = [file.parent / patch.name for patch in made]
            for patch, target in zip(made, written, strict=True):
                patch.replace(target)
            fresh = Path(folder) / file.name
            fresh.write_text(document, encoding="utf-8")
            fresh.replace(file)
        _git(self.folder, "tag", "--force", SAVED, "HEAD")
        return [*written, file]

    def _with_patches(self, file: Path, own: bool):  # type: ignore[no-untyped-def]
        """What makes the text of a recipe or amendment with more patches, all else in it left as it is."""
        if not own and not file.exists():
            head = f'summary = "Patches to {self.recipe}"\nrecipe = "{self.recipe}"\n\n[set]\n'
            return lambda names: f"{head}patches.add = {json.dumps(names)}\n"
        try:
            document = tomlkit.parse(file.read_text(encoding="utf-8"))
        except (tomlkit.exceptions.TOMLKitError, OSError) as error:
            raise YarrikError(Trouble("FILE-NOT-TOML", f"{file.name} cannot be changed: {error}", Place(file))) from error
        if not own and document.get("recipe") != self.recipe:
            raise YarrikError(Trouble("EDIT-NO-PLACE", f"{file.name} amends something else", Place(file),
                                      why="the patches would be listed there", remedy="rename that file"))  # fmt: skip

        def text(names: list[str]) -> str:
            table = document if own else document.setdefault("set", tomlkit.table())
            known = table.get("patches")
            if known is None:
                if own:
                    table["patches"] = names
                else:
                    table["patches"] = {"add": names}
            elif isinstance(known, list):
                known.extend(names)
            else:
                known["add"] = [*known.get("add", ()), *names]
            return tomlkit.dumps(document)

        return text

    def close(self, drop: bool = False) -> None:
        """Removes the working tree. Without `drop`, raises YarrikError when something in it is not on a shelf."""
        changed, commits = self.unsaved()
        if not drop and (changed or commits):
            what = [f"{len(changed)} files that are not committed"] if changed else []
            what += [f"{len(commits)} commits that are on no shelf: {', '.join(commits[:3])}"] if commits else []
            raise YarrikError(
                Trouble("EDIT-UNSAVED", f"the edit of `{self.recipe}` holds {' and '.join(what)}", Place(self.folder),
                        why="they would be lost", remedy=f"yarrik edit {self.recipe} --save SHELF; or --drop to lose them")
            )  # fmt: skip
        remove_folder(self.folder)


def _git(folder: Path, *words: str, environment: dict[str, str] | None = None) -> str:
    """Runs git and returns what it says. Raises YarrikError."""
    try:
        done = git.run(folder, *words, more=environment)
    except FileNotFoundError as error:
        raise YarrikError(Trouble("HOST-TOOL-MISSING", "the program `git` is not on this machine", Place(),
                                  why="edits are kept in it", remedy="on Debian: apt-get install git")) from error  # fmt: skip
    if done.returncode != 0:
        said = done.stderr.strip() or done.stdout.strip()
        raise YarrikError(Trouble("EDIT-GIT", f"git {words[0]} failed: {said}", Place(folder),
                                  remedy="look at it with git itself"), "work")  # fmt: skip
    return done.stdout
