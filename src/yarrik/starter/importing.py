"""A recipe's first draft from sources: they are taken in as a build would take them, looked at, and nothing of them is run."""

from __future__ import annotations

import json
import tempfile
from collections.abc import Callable, Collection, Iterable, Iterator
from pathlib import Path

import msgspec
import msgspec.structs

from yarrik.beneath import Folder, NotPlain
from yarrik.cache import Store, Tree, file_digest, in_use
from yarrik.errors import Place, Trouble, Unfit, YarrikError, shown_path
from yarrik.host import find_program
from yarrik.model import Workspace, check_git_url, check_host_program, check_name, check_url, check_version
from yarrik.sources import (
    DEBIAN_SCHEME,
    Archives,
    Findings,
    Guess,
    check_out,
    digest_of_url,
    download,
    for_developers,
    head_of,
    is_archive,
    look_at,
    packaging_asks,
    patched_autotools,
    read_dsc,
    unpack_archive,
    unpack_members,
    upstream_version,
    wanted_files,
    with_addresses,
)
from yarrik.units import shown_size

#: Bytes of a folder that is copied beside a recipe; more belongs into an archive or a repository.
_LARGEST_COPY = 64 << 20
_DEBIAN = "debian:"
_CONTROL = "debian/control"


class Taken(msgspec.Struct, frozen=True):
    """Sources for a look: the lines of [[source]] that name them, their tree, and the name that they came under. With
    `copied`, the tree is to lie beside the recipe, in `src`. `version` is what the place says of it, where it does; `packaging`
    what a distribution's packaging says that a build needs, with needs as names of source packages."""

    lines: tuple[str, ...]
    tree: Tree
    name: str
    copied: bool = False
    version: str = ""
    packaging: tuple[Guess, ...] = ()


def take_in(
    place: str, store: Store, redirect_hosts: Collection[str] = (), archives: Callable[[], Archives] | None = None
) -> Taken:
    """Sources from a folder, an archive, an https address of one, a git repository, or, as `debian:NAME`, the newest source
    package in `archives`. Raises YarrikError."""
    with in_use(store), tempfile.TemporaryDirectory(prefix="yarrik-") as scratch:
        if place.startswith(_DEBIAN) and archives is not None:
            return _from_debian(place.removeprefix(_DEBIAN), store, archives(), redirect_hosts)
        if "://" in place:
            if place.startswith(("http://", "https://")) and is_archive(place.partition("?")[0]):
                return _from_url(place, store, Path(scratch), redirect_hosts)
            return _from_git(place, store, Path(scratch))
        path = Path(place).absolute()
        if path.is_dir():
            return _from_folder(path, store)
        if path.is_file() and is_archive(path.name):
            lines = (f"host-file = {json.dumps(str(path))}", f'sha256 = "{file_digest(path)}"')
            return Taken(lines, unpack_archive(path, path.name, store), path.name)
    what = "is not an archive that can be unpacked" if path.exists() else "does not exist"
    raise YarrikError(Trouble("NEW-CHOICE", f"{place} {what}", Place(path),
                              remedy="name a folder, an archive (.tar.gz, .tar.xz, .zip, …), an address of one, or a git "
                                     "repository's address, or debian:NAME"))  # fmt: skip


def _from_debian(name: str, store: Store, archives: Archives, redirect_hosts: Collection[str]) -> Taken:
    """Upstream's part of a source package, and what the packaging says that a build needs."""
    package = archives.known(name)[0]
    files = wanted_files(package.files)
    for file, digest in files.items():
        if not store.has(digest):
            urls = with_addresses([f"{DEBIAN_SCHEME}{package.folder}/{file}"], lambda: archives.archives)
            download(urls, digest, store, lambda text: None, redirect_hosts=redirect_hosts)
    members = read_dsc(store.get_bytes(files[package.dsc]), name, package.version, files)
    paths = {file: store.checked_path(digest) for file, digest in files.items()}
    tree = unpack_members(name, members, paths, False, store)
    whole = {entry.path: entry for entry in unpack_members(name, members, paths, True, store).files}
    control = whole.get("debian/control")
    text = store.get_bytes(control.content).decode("utf-8", "replace") if control is not None else ""
    asks = [one if one.what != "need" else msgspec.structs.replace(one, value=archives.source_of(one.value) or one.value)
            for one in packaging_asks(text)]  # fmt: skip
    made = any(entry.path == "configure" for entry in tree.files)
    patches = [(path, store.get_bytes(entry.content)) for path, entry in sorted(whole.items())
               if path.startswith("debian/patches/") and made]  # fmt: skip
    if (anew := patched_autotools(patches)) is not None:
        asks.append(anew)
    return Taken(
        (f"debian = {json.dumps(name)}",), tree, f"{name} {package.version}", version=upstream_version(package.version),
        packaging=tuple(one for one in asks if one.value != name),
    )  # fmt: skip


def _from_url(url: str, store: Store, scratch: Path, redirect_hosts: Collection[str]) -> Taken:
    _check(check_url, url)
    digest, _ = digest_of_url(url, scratch, redirect_hosts)
    name = url.partition("?")[0].rpartition("/")[2]
    return Taken((f"url = {json.dumps(url)}", f'sha256 = "{digest}"'), unpack_archive(scratch / "part", name, store), name)


def _from_git(url: str, store: Store, scratch: Path) -> Taken:
    _check(check_git_url, url)
    commit = head_of(url)
    folder = check_out([url], commit, False, scratch / "repository", lambda text: None)
    tree = store.snapshot(folder, plain=True)
    name = url.rstrip("/").rpartition("/")[2].removesuffix(".git")
    return Taken((f"git = {json.dumps(url)}", f'commit = "{commit}"'), tree, name)


def _from_folder(path: Path, store: Store) -> Taken:
    try:
        with Folder.at(path) as top:
            size = sum(status.st_size for name, status, _ in top.walk() if not name.startswith(".git/"))
            if size > _LARGEST_COPY:
                raise YarrikError(
                    Trouble("NEW-CHOICE", f"{shown_path(path)} has {shown_size(size)}, too much to be copied beside a recipe",
                            Place(path), remedy="pack it as an archive, or name its git repository: file://FOLDER")
                )  # fmt: skip
            whole = store.snapshot(top, plain=True)
    except NotPlain as error:
        raise YarrikError(Trouble("TREE-UNREADABLE", f"{error.filename} {error.strerror}", Place(path),
                                  remedy="name a folder that you may read")) from error  # fmt: skip
    tree = Tree.of(entry for entry in whole.entries if entry.path.split("/")[0] != ".git")
    return Taken(('path = "src"',), tree, path.name, copied=True)


def _check(check: Callable[[str], object], text: str) -> None:
    try:
        check(text)
    except Unfit as error:
        raise YarrikError(Trouble("USAGE", str(error), remedy="correct the address")) from error


def findings_of(taken: Taken, store: Store) -> Findings:
    """What the sources say of themselves."""
    # One that has to be made anew is as good as none.
    anew = any(one.what == "before" for one in taken.packaging)
    files = {entry.path: entry for entry in taken.tree.files if not anew or entry.path != "configure"}
    found = look_at({path: entry.size for path, entry in files.items()}, lambda path: store.get_bytes(files[path].content),
                    taken.name)  # fmt: skip
    return Findings((*found.guesses, *taken.packaging))


class Imported(msgspec.Struct, frozen=True):
    """The text of a recipe, and what it was guessed from: each guess with what became of it."""

    text: str
    rows: tuple[tuple[Guess, str], ...]


def recipe_from(name: str, taken: Taken, found: Findings, workspace: Workspace) -> Imported:
    """A recipe's text; comments say what each guess was read from."""
    rows: list[tuple[Guess, str]] = []

    def use(guess: Guess | None, as_: str = "") -> str:
        """A comment that names the place; the guess is reported too."""
        if guess is None:
            return ""
        rows.append((guess, as_ or guess.value))
        return f"  # {_plain(guess.file)}:{guess.line}"

    version = next((guess for guess in found.of("version") if _passes(check_version, guess.value)), None)
    licence, system = found.first("licence"), found.first("build system")
    unknown = f"LicenseRef-{name}"
    lines = [
        f"summary = {json.dumps(_plain(f'{name}, from {taken.name}'), ensure_ascii=False)}",
        f'version = "{taken.version}"  # as the archive has it'
        if taken.version
        else f'version = "{version.value if version else 0}"{use(version) or "  # nothing says which"}',
        f'licence = "{licence.value if licence else unknown}"'
        + (use(licence) or "  # nothing says which: look into the sources"),
        "",
        "[[source]]",
        *taken.lines,
        "",
        "[build]",
        f'using = "{system.value if system else "plain"}"{use(system)}',
    ]
    plain = found.first("configure")
    if plain is not None and system is not None and system.value == "autotools":
        lines.append(f'configure = "{plain.value}"{use(plain)}, written by hand')
    if system is None:
        lines += ['# commands = ["$CC $CFLAGS $LDFLAGS -o tool tool.c", "install -D tool $DESTDIR/usr/bin/tool"]']
    recipes = workspace.shelved["recipe"]
    by_source = _by_debian_source(workspace)
    here: list[str] = []
    asked_for = Findings(tuple(_of_system(found.guesses, system)))
    for guess in asked_for.of("need"):
        recipe = by_source.get(guess.value, "") or next((one for one in _names_of(guess.value) if one in recipes), "")
        if recipe and recipe not in here and not guess.optional:
            here.append(recipe)
            use(guess, recipe)
        else:
            state = f"on a shelf as {recipe}" if recipe else "on no shelf here"
            need = "could use" if guess.optional else "asks for"
            lines.append(f"# {_plain(guess.file)}:{guess.line} {need} `{guess.value}`, {state}")
            rows.append((guess, f"{guess.value}: left out, {'optional' if guess.optional else state}"))
    if here:
        lines.append(f"needs = {json.dumps(here)}")
    asked = [guess for guess in asked_for.of("tool") if not guess.optional and _passes(check_host_program, guess.value)]
    # Most are for documentation and tests, or one of several that would do.
    tools = [guess for guess in asked if find_program(guess.value) is not None]
    for guess in asked:
        if guess not in tools:
            lines.append(f"# {_plain(guess.file)}:{guess.line} looks for `{guess.value}`, which this machine does not have")
            rows.append((guess, f"{guess.value}: left out, not on this machine"))
    for what, key in (("goal", "goals"), ("install", "install-goals"), ("before", "commands-before")):
        if words := found.of(what):  # type: ignore[arg-type]
            more = ["install"] if what == "install" else []
            lines.append(f"{key} = {json.dumps([*(one.value for one in words), *more])}{use(words[0])}")
    if settings := found.of("variable"):
        pairs = [f"{name} = {json.dumps(value)}" for name, _, value in (one.value.partition("=") for one in settings)]
        lines.append(f"variables = {{ {', '.join(pairs)} }}{use(settings[0])}")
    if tools:
        lines.append(f"programs = {json.dumps([guess.value for guess in tools])}{use(tools[0])}")
        rows += [(guess, guess.value) for guess in tools[1:]]
    known: set[str] = set()
    for guess in asked_for.of("option"):
        assert guess.switch is not None
        option = guess.value.lower().replace("_", "-").strip("-")
        if not _passes(check_name, option) or option in known:
            continue
        known.add(option)
        lines += ["", f"[options.{option}]{use(guess, option)}"]
        if guess.switch.summary:
            lines.append(f"summary = {json.dumps(_plain(guess.switch.summary), ensure_ascii=False)}")
        # As upstream has it, nothing is added: what is on already may ask for a value when it is turned on once more.
        if for_developers(guess.value):
            lines += ["default = false", f'arguments = ["{guess.switch.on}"]', f'arguments-off = ["{guess.switch.off}"]']
        elif guess.switch.default:
            lines += ["default = true", f'arguments-off = ["{guess.switch.off}"]']
        else:
            lines += ["default = false", f'arguments = ["{guess.switch.on}"]']
    return Imported("\n".join(lines) + "\n", tuple(rows))


def _of_system(guesses: Iterable[Guess], system: Guess | None) -> list[Guess]:
    """Those that were read from files of the build system, where the sources have several."""
    begin = {"autotools": ("configure", "Makefile"), "cmake": ("CMakeLists",), "meson": ("meson",)}.get(
        system.value if system else "", ("",)
    )
    return [guess for guess in guesses if guess.file == _CONTROL or guess.file.rpartition("/")[2].startswith(begin)]


def _by_debian_source(workspace: Workspace) -> dict[str, str]:
    """Recipes by the source package that they are made from."""
    found: dict[str, str] = {}
    for name, shelved in workspace.readable("recipe"):
        sources = shelved.document.raw.get("source", [])
        first = sources[0] if isinstance(sources, list) and sources and isinstance(sources[0], dict) else {}
        if isinstance(first.get("debian"), str):
            found.setdefault(first["debian"], name)
    return found


def _plain(text: str) -> str:
    """One line without control characters."""
    return "".join(sign if sign.isprintable() else " " for sign in text).strip()


def _passes(check: Callable[[str], object], text: str) -> bool:
    try:
        check(text)
    except Unfit:
        return False
    return True


def _names_of(need: str) -> Iterator[str]:
    """Names under which a shelf may have what a build file asks for."""
    word = need.lower().replace("_", "-")
    yield word
    yield f"lib{word}"
    yield f"{word}lib"
    if word.startswith("lib"):
        yield word[3:]
    yield word.rstrip("0123456789.-")
    yield f"lib{word.rstrip('0123456789.-')}"


def laid_beside(taken: Taken, store: Store, folder: Path) -> None:
    """Copies the tree into a recipe's `src`. Raises YarrikError."""
    try:
        store.lay_out(taken.tree, folder, writable=True)
    except OSError as error:
        raise YarrikError(Trouble("NEW-UNWRITABLE", f"cannot write {shown_path(folder)}: {error.strerror}", Place(folder),
                                  remedy="choose a folder of yours with free space")) from error  # fmt: skip
