"""Working trees of git repositories that belong to somebody: cloned, looked at and moved, and never at the cost of their work.

All workspaces of a user share a mirror of each repository, in the cache; a clone is made from it with hard links, and lives on
without it. Git runs without hooks, filters and templates of anybody (`git.py`), submodules stay out, and names of others come
behind `--end-of-options` or as whole references."""

from __future__ import annotations

import hashlib
import os
import re
import subprocess
from pathlib import Path

import msgspec

from yarrik.errors import Place, Trouble, YarrikError
from yarrik.locks import held
from yarrik.patterns import lazy_pattern
from yarrik.sources import git
from yarrik.sources.repository import PROTOCOLS

#: References to commits that were checked out: they are no work of the user's, and stay when their branch is gone.
_KEPT = "refs/yarrik"
#: Settings of a repository that run commands or lead elsewhere when git looks at it, moves it or fetches into it.
_RUNS = lazy_pattern(
    r"(?:filter|include|includeif|url|protocol)\.|extensions\.worktreeconfig\Z|core\.(?:worktree|alternaterefscommand|fsmonitor|hookspath|sshcommand|gitproxy)\Z"
)
_FETCH_ONE = ("fetch", "--quiet", "--depth=1", "--no-tags", "--no-recurse-submodules")
_COMMIT = lazy_pattern(r"[0-9a-f]{40}(?:[0-9a-f]{24})?")


class Wanted(msgspec.Struct, frozen=True):
    """What of a repository is wanted: at most one of the three; without any, its usual branch."""

    branch: str = ""
    tag: str = ""
    commit: str = ""

    @property
    def reference(self) -> str:
        """The whole name of the branch or tag; empty without one."""
        if self.tag:
            return f"refs/tags/{self.tag}"
        return f"refs/heads/{self.branch}" if self.branch else ""

    def __str__(self) -> str:
        return self.branch or self.tag or self.commit or "its usual branch"


class State(msgspec.Struct, frozen=True):
    """A working tree: its commit, whether files in it differ from that (`changed`), and how many of its commits are on no
    branch or tag of the repository that it came from (`own`)."""

    commit: str
    changed: bool
    own: int


class Mirror(msgspec.Struct, frozen=True):
    """All branches and tags of a repository, as they were when it was asked last; or, `shallow`, single commits of it."""

    url: str
    folder: Path
    shallow: bool = False

    @staticmethod
    def of(url: str, cache: Path, shallow: bool = False) -> Mirror:
        """The mirror of a repository, in the folder of a cache; there may be none yet."""
        name = hashlib.sha256(url.encode()).hexdigest()[:32] + ("-shallow" if shallow else "")
        return Mirror(url, cache / "clones" / f"{name}.git", shallow)

    def refresh(self, wanted: Wanted) -> None:
        """Fetches what is new; of a shallow mirror only what is `wanted`. Raises YarrikError when the repository cannot be
        reached."""
        self.folder.parent.mkdir(parents=True, exist_ok=True)
        with held(f"{self.folder}.lock"):
            if not (self.folder / "HEAD").is_file():
                _git(self.folder.parent, "init", "--quiet", "--bare", str(self.folder))
            if not self.shallow:
                _git(self.folder, "fetch", "--quiet", "--prune", "--no-recurse-submodules", "--force", "--end-of-options",
                     self.url, "+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*", url=self.url)  # fmt: skip
            head = _git(self.folder, "ls-remote", "--symref", "--end-of-options", self.url, "HEAD", url=self.url)
            usual = re.search(r"(?m)^ref: (refs/heads/\S+)\tHEAD$", head)
            if usual:
                _git(self.folder, "symbolic-ref", "HEAD", usual[1])
            if self.shallow:
                name = wanted.reference or (usual[1] if usual else "")
                if name:
                    _git(self.folder, *_FETCH_ONE, "--end-of-options", self.url, f"+{name}:{name}", url=self.url)
                elif wanted.commit:
                    self.keep(wanted.commit)

    def commit_of(self, wanted: Wanted) -> str:
        """The commit that is wanted, as of the last refresh. Raises YarrikError when there is none."""
        name = wanted.commit or wanted.reference or "HEAD"
        try:
            found = _git(self.folder, "rev-parse", "--verify", "--quiet", "--end-of-options", f"{name}^{{commit}}").strip()
        except YarrikError:
            found = ""
        if _COMMIT.fullmatch(found):
            return found
        raise YarrikError(
            Trouble("SHELF-REVISION", f"{git.without_password(self.url)} has no {_kind(wanted)}", Place(self.folder),
                    why="it may have been renamed, or removed there", remedy="name another branch, tag or commit"),
            "work",
        )  # fmt: skip

    def has(self, commit: str) -> bool:
        """Whether the commit is here."""
        return (self.folder / "HEAD").is_file() and has_commit(self.folder, commit)

    def clone(self, folder: Path, commit: str) -> None:
        """A working tree at a commit, on no branch; `folder` must not be there. Raises YarrikError."""
        if self.shallow:  # git's own way would leave commits behind that are on no branch
            _git(folder.parent, "init", "--quiet", str(folder))
            _git(folder, "remote", "add", "origin", self.url)
            self.hand_on(folder)
            move_to(folder, commit)
            return
        _git(folder.parent, "clone", "--quiet", "--local", "--no-checkout", "--end-of-options", str(self.folder), str(folder))
        _git(folder, "remote", "set-url", "origin", self.url)
        move_to(folder, commit)

    def keep(self, commit: str) -> bool:
        """Whether the commit is here; then it stays, whatever becomes of its branch. One that is on no branch any more is asked
        for by its name, which not all servers answer. Raises YarrikError when git fails."""
        if not self.has(commit):
            if not (self.folder / "HEAD").is_file():
                self.folder.parent.mkdir(parents=True, exist_ok=True)
                _git(self.folder.parent, "init", "--quiet", "--bare", str(self.folder))
            fetch = _FETCH_ONE if self.shallow else ("fetch", "--quiet", "--no-recurse-submodules")
            words = (*fetch, "--end-of-options", self.url, commit)
            if not _answers(self.folder, *words, url=self.url) or not self.has(commit):
                return False
        _git(self.folder, "update-ref", f"{_KEPT}/{commit}", commit)
        return True

    def hand_on(self, folder: Path) -> None:
        """Brings a clone's view of the repository up to date. Raises YarrikError."""
        # Branches that are gone there go here too; tags of somebody's own stay.
        kept = f"+{_KEPT}/*:{_KEPT}/*"
        more = ("--update-shallow",) if self.shallow else ()
        _git(folder, "fetch", "--quiet", "--prune", "--no-tags", "--no-recurse-submodules", *more, "--end-of-options",
             str(self.folder), "+refs/heads/*:refs/remotes/origin/*", kept)  # fmt: skip
        # A tag that has another meaning here stays as it is.
        _answers(folder, "fetch", "--quiet", "--no-recurse-submodules", *more, "--end-of-options", str(self.folder),
                 "refs/tags/*:refs/tags/*")  # fmt: skip


def _kind(wanted: Wanted) -> str:
    for kind in ("branch", "tag", "commit"):
        if name := getattr(wanted, kind):
            return f"{kind} `{name}`"
    return "branch at all"


def has_commit(folder: Path, commit: str) -> bool:
    """Whether a repository has the commit, on a branch or not."""
    return _answers(folder, "cat-file", "-e", f"{commit}^{{commit}}")


def state_of(folder: Path) -> State:
    """How a working tree is. Raises YarrikError for a folder that is none, and for one whose settings run commands: somebody
    else may have made it."""
    inner = folder / ".git"
    if folder.is_symlink() or inner.is_symlink() or not inner.is_dir():
        raise YarrikError(Trouble("SHELF-STATE", f"{folder.name} is not a clone", Place(folder),
                                  why="a shelf from git is git's own working tree there, and no link",
                                  remedy="move it away, then: yarrik shelf sync"))  # fmt: skip
    _check_settings(folder, folder.name)
    commit = _git(folder, "rev-parse", "--verify", "HEAD").strip()
    changed = _changed(folder, folder.name)
    own = _git(folder, "rev-list", "--count", "HEAD", "--not", "--remotes=origin", "--tags", f"--glob={_KEPT}").strip()
    return State(commit, changed, int(own))


def _check_settings(folder: Path, shelf: str) -> None:
    keys = _git(folder, "config", "--local", "--no-includes", "--list", "--name-only", "-z").split("\0")
    if running := next((key for key in keys if _RUNS.match(key)), ""):
        raise YarrikError(
            Trouble("SHELF-STATE", f"the clone of {shelf} has settings of its own that git would act on: {running}",
                    Place(folder / ".git/config"), why="they run commands, or lead git elsewhere, at each look",
                    remedy="remove them; or list the shelf as a folder, with `path`")
        )  # fmt: skip


def _changed(folder: Path, shelf: str) -> bool:
    """Whether files differ from the commit. Repositories inside have settings of their own: git stays out of them until these
    are known to run nothing."""
    if _git(folder, "status", "--porcelain", "--untracked-files=normal", "--ignore-submodules=dirty"):
        return True
    rows = _git(folder, "ls-files", "--stage", "-z").split("\0")
    for path in (row.partition("\t")[2] for row in rows if row.startswith("160000 ")):
        inner = folder / path
        if os.path.lexists(inner / ".git"):
            if inner.resolve() != folder.resolve() / path:
                return True  # a link is where git has a repository
            _check_settings(inner, shelf)
            top = _git(inner, "rev-parse", "--show-toplevel").removesuffix("\n")
            if top != str(inner.resolve()) or _changed(inner, shelf):
                return True
    return False


def move_to(folder: Path, commit: str) -> None:
    """Checks a commit out, on no branch. Git itself refuses where a changed file would be lost. Raises YarrikError."""
    _git(folder, "checkout", "--quiet", "--detach", commit)
    _git(folder, "update-ref", f"{_KEPT}/{commit}", commit)


def commits_between(folder: Path, before: str, after: str, most: int = 20) -> list[str]:
    """Short names and subjects of the commits that lead from one to the other, the newest first, at most `most`."""
    text = _git(folder, "log", "--format=%h %s", f"--max-count={most}", "--end-of-options", f"{before}..{after}")
    return text.splitlines()


def distance(folder: Path, locked: str, commit: str) -> tuple[int, int] | None:
    """How many commits the second has that the first has not, and the other way round; None when the history between them is
    not here. Raises YarrikError when git fails."""
    if not (has_commit(folder, locked) and has_commit(folder, commit)):
        return None
    if not _answers(folder, "merge-base", "--end-of-options", locked, commit):
        return None
    behind, ahead = _git(folder, "rev-list", "--count", "--left-right", "--end-of-options", f"{locked}...{commit}").split()
    return int(ahead), int(behind)


def _answers(folder: Path, *words: str, url: str = "") -> bool:
    try:
        return git.run(folder, *words, protocols=PROTOCOLS if url else "file", handed_over=bool(url)).returncode == 0
    except (OSError, subprocess.TimeoutExpired):
        return False


def _git(folder: Path, *words: str, url: str = "") -> str:
    """Runs git and returns what it says; with a `url` it may reach that. Raises YarrikError."""
    try:
        done = git.run(folder, *words, protocols=PROTOCOLS if url else "file", handed_over=bool(url))
    except FileNotFoundError as error:
        raise YarrikError(Trouble("HOST-TOOL-MISSING", "the program `git` is not on this machine", Place(),
                                  remedy="on Debian: apt-get install git")) from error  # fmt: skip
    except (OSError, subprocess.TimeoutExpired) as error:
        raise YarrikError(Trouble("SHELF-GIT", f"git {words[0]} failed: {error}", Place(folder),
                                  remedy="look at it with git itself"), "work") from error  # fmt: skip
    if done.returncode == 0:
        return done.stdout
    lines = [line for line in done.stderr.splitlines() if line.strip()]
    said = git.without_password(lines[-1] if lines else f"exit code {done.returncode}")
    if url:
        raise YarrikError(
            Trouble("SHELF-UNREACHABLE", f"{git.without_password(url)} cannot be fetched: {said}",
                    remedy="check the address, your access to it, and the network"), "work",
        )  # fmt: skip
    raise YarrikError(Trouble("SHELF-GIT", f"git {words[0]} failed: {said}", Place(folder),
                              remedy="look at it with git itself"), "work")  # fmt: skip
