"""Work on a recipe's sources: a git working tree of them that builds use, and the commits in it as patches on a shelf."""

from __future__ import annotations

import errno
import hashlib
import itertools
import json
import os
import stat
import tempfile
from contextlib import suppress
from pathlib import Path

import msgspec
import tomlkit
import tomlkit.exceptions

from yarrik.atomic import new_folder, write_file
from yarrik.beneath import Folder, NotPlain, remove_folder
from yarrik.errors import Place, Trouble, Unfit, YarrikError, shown_path, suggestion
from yarrik.model import Composition, check_name
from yarrik.resolve import Node
from yarrik.run.events import Listener, silent
from yarrik.run.project import EDITS
from yarrik.run.session import Session
from yarrik.sources import git
from yarrik.units import counted

#: Marks the commit that holds what is saved already; at first the sources as they were prepared.
SAVED = "yarrik-saved"
_OURS = {"NAME": "Yarrik", "EMAIL": "yarrik@localhost", "DATE": "2026-01-01T00:00:00Z"}


class Unsaved(msgspec.Struct, frozen=True):
    """What of a working tree is on no shelf: files that differ from the last commit, subjects of commits, commits on other
    branches and in stashes, and things that may be of no worth: ignored files, replaced commits, repositories inside."""

    changed: tuple[str, ...] = ()
    commits: tuple[str, ...] = ()
    elsewhere: tuple[str, ...] = ()
    in_doubt: tuple[str, ...] = ()

    @property
    def is_work(self) -> bool:
        """Whether closing the edit would lose something."""
        return bool(self.changed or self.commits or self.elsewhere)

    def lines(self) -> list[str]:
        """A line for each thing."""
        return [
            *(f"changed  {name}" for name in self.changed),
            *(f"commit   {subject}" for subject in self.commits),
            *(f"elsewhere  {commit}" for commit in self.elsewhere),
            *(f"in doubt   {thing}" for thing in self.in_doubt),
        ]


#: Where working trees go that are closed with something in them that is in doubt.
KEPT = "kept-edits"
#: A repository inside of the tree has settings of its own, so git stays out of it.
_STATUS = ("status", "--porcelain", "-z", "--no-renames", "--untracked-files=all", "--ignored", "--ignore-submodules=all")
_PATCHES = ("format-patch", "--quiet", "--no-ext-diff", "--no-textconv", "--submodule=short", "--no-signature", "--zero-commit",
            "--no-numbered")  # fmt: skip
#: In the working tree's own repository: files are taken as they are, whatever the sources' attributes say.
_AS_THEY_ARE = b"* -text -eol -ident -filter -working-tree-encoding\n"


class Edit(msgspec.Struct, frozen=True):
    """The working tree of a recipe's sources."""

    session: Session
    recipe: str

    def __post_init__(self) -> None:
        try:
            check_name(self.recipe)
        except Unfit as error:
            raise YarrikError(Trouble("RECIPE-UNKNOWN", str(error), remedy="name a recipe: yarrik find WORD")) from error

    @property
    def folder(self) -> Path:
        """The working tree, in the workspace's `edits/`."""
        return self.session.project.root / EDITS / self.recipe

    @property
    def is_open(self) -> bool:
        """Whether there is a working tree."""
        return (self.folder / ".git").is_dir()

    def open(self, composition: Composition, listener: Listener = silent) -> bool:
        """Lays the prepared sources out, on a branch of their own. False when that was done before. Raises YarrikError."""
        if self.is_open:
            return False
        answer = self.session.planner.answer(composition)
        nodes = [node for node in (Node(self.recipe, "board"), Node(self.recipe, "host")) if node in answer.versions]
        if not nodes:
            known = {node.recipe for node in answer.versions}
            elsewhere = self.recipe in self.session.project.workspace.shelved["recipe"]
            raise YarrikError(Trouble("RECIPE-UNKNOWN", f"`{composition.name}` has no recipe `{self.recipe}`",
                                      why="a shelf has it, for other products" if elsewhere else "",
                                      remedy=f"name one of these: yarrik edit {self.recipe} --product NAME" if elsewhere else
                                      suggestion(self.recipe, known)))  # fmt: skip
        steps = {step.name: step for step in self.session.planner.planned(composition).graph.steps}
        build = steps.get(f"build {nodes[0]}")
        if build is None or "source" not in build.inputs:
            raise YarrikError(Trouble("EDIT-NO-SOURCES", f"`{self.recipe}` has no sources that could be edited",
                                      answer.recipe(nodes[0]).place("source"), remedy="edit the recipe itself"))  # fmt: skip
        step, output = build.inputs["source"]
        tree = self.session.project.store.tree(
            self.session.builder.run_up_to(self.session.planner.planned(composition), step, listener)[output]
        )
        self.folder.parent.mkdir(exist_ok=True)
        with new_folder(self.folder) as fresh:
            self.session.project.store.lay_out(tree, fresh, writable=True)
            ours = {f"GIT_{who}_{what}": value for who in ("AUTHOR", "COMMITTER") for what, value in _OURS.items()}
            _git(fresh, "init", "--quiet", "--initial-branch=edit")
            (fresh / ".git/info").mkdir(exist_ok=True)
            (fresh / ".git/info/attributes").write_bytes(_AS_THEY_ARE)
            _git(fresh, "add", "--all", "--force")
            message = f"{self.recipe} {answer.versions[nodes[0]]}, as prepared"
            _git(fresh, "commit", "--quiet", "--allow-empty", "--no-gpg-sign", "-m", message, environment=ours)
            _git(fresh, "tag", SAVED)
        return True

    def unsaved(self) -> Unsaved:
        """Everything that is there, compared with what is saved: the files themselves, and all commits that git still has."""
        self._guard()
        rows = _git(self.folder, *_STATUS).split("\0")
        changed = {row[3:] for row in rows if row and not row.startswith("!!")}
        ignored = {row[3:] for row in rows if row.startswith("!!")}
        # git can be told to overlook changes, so the files are compared too.
        committed = _committed(self.folder)
        here = _here(self.folder)
        hidden = {path for path in committed.keys() | here.keys() if committed.get(path) != here.get(path)}
        hidden = {path for path in hidden if not any(path == one or path.startswith(one.rstrip("/") + "/") for one in ignored)}
        commits = _git(self.folder, "log", "--reverse", "--format=%s", f"{SAVED}..HEAD").splitlines()
        known = ("--not", SAVED, "HEAD")
        elsewhere = _git(self.folder, "log", "--format=%h %s (%S)", "--all", *known).splitlines()
        elsewhere += _git(self.folder, "stash", "list").splitlines()[1:]  # the first is among the others
        replaced = _git(self.folder, "rev-list", "--reflog", *known, "--all").splitlines()
        doubt = [f"{path} (ignored by git)" for path in sorted(ignored)]
        doubt += [f"{counted(len(replaced), 'commit')} that others have replaced"] if replaced else []
        doubt += [f"the repository in {path}" for path in _repositories_inside(self.folder)]
        return Unsaved(tuple(sorted(changed | hidden)), tuple(commits), tuple(elsewhere), tuple(doubt))

    def _guard(self) -> None:
        """Has git take files as they are, whatever the repository says: it may have come with the workspace, and its settings
        name programs that git would run over contents for those who only look at it. Raises YarrikError."""
        try:
            with Folder.at(self.folder) as tree, tree.folder(".git") as repository:
                if any(path == "commondir" for path, _, _ in repository.walk(deep=False)):
                    raise NotPlain(errno.EINVAL, "leads to another repository, whose settings would count", "commondir")
                with suppress(FileExistsError):
                    repository.make_folder("info")
                known = repository.read("info/attributes") if repository.is_file("info/attributes") else b""
                if not known.endswith(_AS_THEY_ARE):
                    repository.write("info/attributes", known + b"\n" * bool(known) + _AS_THEY_ARE)
        except OSError as error:
            raise YarrikError(
                Trouble("EDIT-GIT", f"the repository of `{self.recipe}` cannot be used: {error.filename} {error.strerror}",
                        Place(self.folder), why="git would run programs that its settings name",
                        remedy=f"copy what is yours out of {shown_path(self.folder)}, remove it, and begin anew: "
                               f"yarrik edit {self.recipe}")
            ) from error  # fmt: skip

    def save(self, shelf: str) -> list[Path]:
        """Writes the commits as patches onto a shelf: into the recipe if it lies there, else into an amendment to it.

        Returns the files that were written. Raises YarrikError, and then nothing has changed."""
        workspace = self.session.project.workspace
        folders = {choice.name: self.session.project.root / choice.place for choice in workspace.settings.shelf}
        if shelf not in folders:
            raise YarrikError(Trouble("SHELF-UNKNOWN", f"the workspace has no shelf `{shelf}`", Place(workspace.file),
                                      remedy=suggestion(shelf, folders)))  # fmt: skip
        if any(choice.name == shelf and choice.built_in for choice in workspace.settings.shelf):
            raise YarrikError(Trouble("NEW-UNWRITABLE", f"the shelf `{shelf}` comes with Yarrik", Place(workspace.file),
                                      why="another version of Yarrik would come without the patches",
                                      remedy="save them as an amendment on a shelf of yours"))  # fmt: skip
        unsaved = self.unsaved()
        changed, commits = unsaved.changed, unsaved.commits
        where = shown_path(self.folder)
        if _git(self.folder, "rev-list", "--merges", f"{SAVED}..HEAD").strip():
            raise YarrikError(
                Trouble("EDIT-MERGES", "there are merges among the commits that are not saved", Place(self.folder),
                        why="a patch is the change from one commit to the next, which a merge is not",
                        remedy=f"make them a line: git -C {where} rebase {SAVED}")
            )  # fmt: skip
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
        with tempfile.TemporaryDirectory(prefix="yarrik-patches-") as folder:
            numbers = (f"--start-number={known + 1}", f"--output-directory={folder}")
            _git(self.folder, *_PATCHES, *numbers, f"{SAVED}..HEAD")
            patches = {patch.name: patch.read_bytes() for patch in sorted(Path(folder).iterdir())}
        written = [file.parent / name for name in patches]
        for target, patch in zip(written, patches.values(), strict=True):
            write_file(target, patch, durable=True)
        write_file(file, text(list(patches)).encode(), durable=True)
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

    def close(self, drop: bool = False) -> Path | None:
        """Removes the working tree. Without `drop`, raises YarrikError when something in it is not on a shelf; what may be of
        no worth is kept aside then, in the folder that is returned."""
        unsaved = self.unsaved()
        if not drop and unsaved.is_work:
            counted = (
                (unsaved.changed, "files that are not committed", 0),
                (unsaved.commits, "commits that are on no shelf", 3),
                (unsaved.elsewhere, "commits on other branches or in stashes", 3),
            )
            what = [f"{len(found)} {words}" + (f": {', '.join(found[:most])}" if most else "")
                    for found, words, most in counted if found]  # fmt: skip
            raise YarrikError(
                Trouble("EDIT-UNSAVED", f"the edit of `{self.recipe}` holds {' and '.join(what)}", Place(self.folder),
                        why="they would be lost", remedy=f"yarrik edit {self.recipe} --save SHELF; or --drop to lose them")
            )  # fmt: skip
        if unsaved.in_doubt and not drop:
            top = self.session.project.folder / KEPT
            top.mkdir(parents=True, exist_ok=True)
            aside = next(place for number in itertools.count(1) if not (place := top / f"{self.recipe}-{number}").exists())
            self.folder.rename(aside)
            return aside
        remove_folder(self.folder)
        return None


def _committed(folder: Path) -> dict[str, tuple[str, str]]:
    """Mode and blob of each file of the last commit."""
    found = {}
    for row in _git(folder, "ls-tree", "-r", "-z", "--full-tree", "HEAD").split("\0"):
        about, _, path = row.partition("\t")
        if path:
            mode, _, blob = about.split(" ")
            found[path] = (mode, blob)
    return found


def _here(folder: Path) -> dict[str, tuple[str, str]]:
    """The same of the files that are there, as git counts them: SHA-1 of a head and the content (gitformat-pack(5))."""
    found = {}
    with Folder.at(folder) as top:
        for path, status, target in top.walk():
            if stat.S_ISLNK(status.st_mode):
                mode, data = "120000", os.fsencode(target)
            elif stat.S_ISREG(status.st_mode):
                mode, data = ("100755" if status.st_mode & 0o100 else "100644"), top.read(path)
            else:
                continue
            name = path.encode("utf-8", "surrogateescape").decode("utf-8", "replace")
            found[name] = (mode, hashlib.sha1(b"blob %d\0" % len(data) + data, usedforsecurity=False).hexdigest())
    return found


def _repositories_inside(folder: Path) -> list[str]:
    return sorted(
        os.path.relpath(place, folder) for place, folders, files in os.walk(folder)
        if (".git" in folders or ".git" in files) and Path(place) != folder
    )  # fmt: skip


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
