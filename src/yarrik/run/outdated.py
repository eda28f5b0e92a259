"""Recipes against what their sources offer now, and the change that takes a newer version."""

from __future__ import annotations

import contextlib
import difflib
import tempfile
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Literal

import msgspec

from yarrik.atomic import write_file
from yarrik.errors import Place, Trouble, YarrikError, suggestion
from yarrik.model import Composition, Definition, Overrides, Recipe, Source
from yarrik.run.events import Listener, silent
from yarrik.run.session import Session
from yarrik.sources import Offered, digest_of_url, listed_beside, newer, tagged, upstream_version

Origin = Literal["debian", "git", "url", ""]


class Standing(msgspec.Struct, frozen=True):
    """A recipe and what its source offers: a newer version of upstream's, or a newer `revision` of the same in a Debian
    archive. `trouble` is why that is not known. Sources that nobody publishes have no `origin`."""

    recipe: str
    shelf: str
    version: str
    origin: Origin
    have: str = ""
    newest: Offered | None = None
    revision: str = ""
    trouble: Trouble | None = None

    @property
    def is_outdated(self) -> bool:
        """Whether something newer is offered."""
        return self.newest is not None or bool(self.revision)


class Change(msgspec.Struct, frozen=True):
    """What was changed for a newer version: the difference of the recipe's file (empty where the lock alone changed), and the
    step that showed that sources and patches fit."""

    recipe: str
    before: str
    after: str
    difference: str
    checked: str


def standings(
    session: Session, composition: Composition, names: Sequence[str] = (), tell: Callable[[str], None] = lambda name: None
) -> list[Standing]:
    """How the recipes of a product stand (or those that are named), sorted. Raises YarrikError for a name that it has not."""
    answer = session.planner.answer(composition)
    known = sorted({node.recipe for node in answer.versions})
    for name in names:
        _check_name(name, known)
    found = []
    for name in names or known:
        recipe = answer.recipe(next(node for node in answer.versions if node.recipe == name))
        tell(name)
        found.append(standing_of(session, recipe))
    return found


def _check_name(name: str, known: Sequence[str]) -> None:
    if name not in known:
        raise YarrikError(Trouble("RECIPE-UNKNOWN", f"the product has no recipe `{name}`", remedy=suggestion(name, known)))


def standing_of(session: Session, recipe: Definition[Recipe]) -> Standing:
    """How one recipe stands."""
    shelf = session.project.workspace.shelved["recipe"][recipe.name].shelf
    version = recipe.value.version
    source = recipe.value.source[0] if len(recipe.value.source) == 1 else Source()
    origin: Origin = "debian" if source.debian else "git" if source.git else "url" if source.url else ""
    plain = Standing(recipe.name, shelf, version, origin)
    if not origin:
        return plain
    try:
        if origin == "debian":
            return _in_archives(session, plain, source)
        if origin == "git":
            offers = tagged(source.git, version)
        else:
            url = source.url.replace("{version}", version)
            offers = listed_beside(url, version, session.project.settings.redirect_hosts)
        return Standing(recipe.name, shelf, version, origin, newest=newer(offers, version))
    except YarrikError as error:
        return Standing(recipe.name, shelf, version, origin, trouble=error.troubles[0])


def _in_archives(session: Session, plain: Standing, source: Source) -> Standing:
    archives = session.project.debian_archives
    found = archives.versions(source.debian)
    if archives.failures:
        raise YarrikError(archives.failures, "work")
    locked = session.project.lock.debian.get(f"{source.debian} {source.version or plain.version}")
    have = source.version or (locked.version if locked is not None else "")
    same = next((one.version for one in found if upstream_version(one.version) == plain.version), "")
    offers = [Offered(upstream_version(one.version), one.version) for one in reversed(found)]
    revision = same if have and same != have and _after(same, have) else ""
    return Standing(plain.recipe, plain.shelf, plain.version, "debian", have, newer(offers, plain.version), revision)


def _after(version: str, other: str) -> bool:
    from debian.debian_support import NativeVersion

    return bool(version) and bool(NativeVersion(version) > NativeVersion(other))


def update_recipe(root: Path, product: str | None, overrides: Overrides, name: str, listener: Listener = silent) -> Change:
    """Takes what is newer of one recipe: changes its file or the lock, brings the sources here, and lays its patches on. Raises
    YarrikError; then file and lock are as they were."""
    with _opened(root) as session:
        composition = session.planner.compose(product, overrides)
        standing = standings(session, composition, [name])[0]
        if standing.trouble is not None:
            raise YarrikError(standing.trouble, "work")
        if not standing.is_outdated:
            have = standing.have or standing.version
            raise YarrikError(Trouble("NOTHING-NEWER", f"nothing newer than {have} of `{name}` is offered",
                                      remedy="yarrik outdated shows what is looked at"))  # fmt: skip
        answer = session.planner.answer(composition)
        recipe = answer.recipe(next(node for node in answer.versions if node.recipe == name))
        with tempfile.TemporaryDirectory(prefix="yarrik-") as scratch:
            text, after = _changed(session, recipe, standing, Path(scratch))
        file = recipe.file
        lock = session.project.lock.file
        before = file.read_bytes()
        lock_before = lock.read_bytes() if lock.is_file() else None
    try:
        if text.encode() != before:
            write_file(file, text.encode())
        with _opened(root) as session:
            composition = session.planner.compose(product, overrides)
            session.planner.hold(session.planner.answer(composition, [name]), moving=[name])
            planned = session.planner.planned(composition)
            steps = {step.name for step in planned.graph.steps}
            checked = next(one for kind in ("patch", "prepare", "fetch") if (one := f"{kind} {name}") in steps)
            session.builder.run_up_to(planned, checked, listener)
            session.project.write_lock()
    except BaseException:
        # Whatever ends it: what is half changed would be built next time.
        if text.encode() != before:  # the file may be on a shelf that is not ours to write
            write_file(file, before)
        if lock_before is not None:
            write_file(lock, lock_before)
        else:
            lock.unlink(missing_ok=True)
        raise
    lines = difflib.unified_diff(
        before.decode().splitlines(True), text.splitlines(True), f"a/{file.name}", f"b/{file.name}", n=2
    )
    return Change(name, standing.have or standing.version, after, "".join(lines), checked)


@contextlib.contextmanager
def _opened(root: Path) -> Iterator[Session]:
    session = Session(root)
    try:
        yield session
    finally:
        session.close()


def _changed(session: Session, recipe: Definition[Recipe], standing: Standing, scratch: Path) -> tuple[str, str]:
    """The text of a recipe's file for what is newer, and the version that it then has. Raises YarrikError."""
    import tomlkit
    import tomlkit.exceptions

    file, newest = recipe.file, standing.newest
    text = file.read_text(encoding="utf-8")
    source = recipe.value.source[0]
    if newest is None and not source.version:
        return text, standing.revision  # the lock has it
    after = newest.version if newest is not None else standing.revision
    choice = next((one for one in session.project.workspace.settings.shelf if one.name == standing.shelf), None)
    if choice is not None and (choice.built_in or choice.git):
        where = "comes with Yarrik" if choice.built_in else "is a repository of its own"
        raise YarrikError(
            Trouble("UPDATE-NOT-OURS", f"`{recipe.name}` is on the shelf `{standing.shelf}`, which {where}", Place(file),
                    why="a change there would be lost, or is for others to make",
                    remedy=f"amend it on a shelf of yours: recipe = \"{recipe.name}\", [set] version = \"{after}\"")
        )  # fmt: skip
    try:
        document = tomlkit.parse(text)
    except tomlkit.exceptions.TOMLKitError as error:
        raise YarrikError(Trouble("FILE-NOT-TOML", f"{file.name} cannot be changed: {error}", Place(file))) from error
    if "version" not in document or "versions" in document or len(document.get("source", ())) != 1:
        raise YarrikError(
            Trouble("UPDATE-UNCLEAR", f"what to change for a newer `{recipe.name}` is not clear", Place(file),
                    why="its file lists several versions, or takes version or source from elsewhere",
                    remedy=f"change it by hand, to {newest.version if newest is not None else standing.revision}")
        )  # fmt: skip
    table = document["source"][0]
    if newest is not None:
        document["version"] = newest.version
    if standing.origin == "debian":
        if source.version:
            table["version"] = newest.detail if newest is not None else standing.revision
    elif newest is not None and standing.origin == "git":
        table["commit"] = newest.detail
    elif newest is not None:
        if "{version}" not in source.url:
            table["url"] = newest.detail
        digest, _ = digest_of_url(newest.detail, scratch, session.project.settings.redirect_hosts)
        table["sha256"] = digest
    return tomlkit.dumps(document), after
