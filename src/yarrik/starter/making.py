"""New workspaces and definitions: which files they are, what can be chosen, and what is chosen when nobody says."""

from __future__ import annotations

import contextlib
import os
import platform
import tomllib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Literal

import msgspec

from yarrik.arch import ARCHES, arch_of_compiler
from yarrik.atomic import write_file
from yarrik.beneath import Folder
from yarrik.errors import Place, Trouble, Unfit, YarrikError, listed, shown_path, suggestion
from yarrik.model import Workspace, check_name
from yarrik.starter import texts
from yarrik.starter.files import lay_into, starter_shelf
from yarrik.starter.hardware import Hardware, fragment_of

NewKind = Literal["shelf", "board", "image", "profile", "product", "variant", "recipe"]
#: What can be made from another one of its kind.
DERIVED = ("board", "image", "profile", "product")
_CONSOLES = {"arm64": "ttyAMA0,115200", "arm": "ttyAMA0,115200", "riscv64": "ttyS0,115200", "x86-64": "ttyS0,115200",
             "host": "ttyS0,115200"}  # fmt: skip


class Choice(msgspec.Struct, frozen=True):
    """Something to choose: its key, the names with a summary each, and the name that is taken when nobody chooses. Without
    a `usual` one, somebody has to."""

    key: str
    names: Mapping[str, str]
    usual: str


class Draft(msgspec.Struct, frozen=True):
    """Files that do not exist yet, by path; the first is the one to read. `shelf` is a shelf to be listed in yarrik.toml,
    with its path there."""

    files: Mapping[Path, str]
    shelf: tuple[str, str] | None = None


class Wanted(msgspec.Struct, frozen=True):
    """What a new definition is to be. What is empty is chosen by `choices`, or not used by its kind."""

    kind: NewKind
    name: str
    shelf: str = ""
    base: str = ""
    copy: bool = False
    chosen: Mapping[str, str] = msgspec.field(default_factory=dict)
    #: What was read of a board's hardware, for a board that is made from it.
    hardware: Hardware | None = None


def host_arch() -> str:
    """The architecture of this machine, as boards name it; empty for one that is not known."""
    arch = arch_of_compiler(platform.machine())
    return arch.name if arch is not None else ""


def bench_arches() -> list[str]:
    """Architectures for which the starter shelf has a board."""
    boards = (item.name for item in (starter_shelf() / "boards").iterdir())
    return sorted(name.removeprefix("bench-").removesuffix(".toml") for name in boards if name.startswith("bench-"))


def make_workspace(folder: Path, name: str, arch: str) -> list[Path]:
    """Makes a workspace in a folder that is new or empty: the starter shelf, one of its own, and a product; returns the files
    that are its user's own. Raises YarrikError."""
    _check(name, Place(folder))
    if name == "starter":
        raise YarrikError(Trouble("NEW-NAME", "a workspace has a shelf of its own name, and `starter` is the shipped one",
                                  remedy="choose another name"))  # fmt: skip
    if arch not in bench_arches():
        raise YarrikError(
            Trouble("NEW-CHOICE", f"the starter shelf has no board for `{arch or platform.machine()}`",
                    remedy=f"give --arch {' or --arch '.join(bench_arches())}; your own board comes later: yarrik new board")
        )  # fmt: skip
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise YarrikError(Trouble("NEW-EXISTS", f"{shown_path(folder)} exists, and is not an empty folder", Place(folder),
                                  remedy="name a new folder"))  # fmt: skip
    prefix = "" if arch == host_arch() else ARCHES[arch].compiler_prefix
    own = folder / "shelves" / name
    files = {
        folder / "yarrik.toml": texts.workspace_text(name, name),
        folder / f"products/{name}.toml": texts.product_text(name, "small", name),
        own / "shelf.toml": texts.shelf_text(name, ["starter"]),
        own / f"boards/{name}.toml": texts.derived_board_text(f"bench-{arch}", prefix),
        own / f"images/{name}.toml": texts.derived_image_text("minimal"),
        folder / ".gitignore": "/.yarrik/\n/out/\n",
    }
    try:
        lay_into(starter_shelf(), folder / "shelves/starter")
    except OSError as error:
        raise _unwritable(folder, error) from error
    _write(files, folder)
    return list(files)[:-1]


def choices(workspace: Workspace, wanted: Wanted) -> list[Choice]:
    """What has to be chosen for a new definition, in the order in which it is asked. Shelves and bases that are given are
    looked up here. Raises YarrikError for names that do not exist."""
    shelves = {choice.name: choice.place for choice in workspace.settings.shelf if not choice.built_in}
    cloned = {choice.name for choice in workspace.settings.shelf if choice.git}
    found: list[Choice] = []
    if wanted.kind not in ("shelf", "product"):
        mine = (name for name, path in shelves.items() if not path.startswith(("/", "..")) and name != "starter")
        own = [name for name in mine if name not in cloned]
        found.append(Choice("shelf", shelves, own[-1] if own else ""))
    if wanted.base:
        return found
    if wanted.kind == "product":
        first = next((one.document.raw for _, one in workspace.readable("product")), {})
        for key in ("board", "profile", "image"):
            names = {name: str(one.document.raw.get("summary", "")) for name, one in workspace.readable(key)}
            usual = str(first.get(key, "")) or (next(iter(names)) if len(names) == 1 else "")
            found.append(Choice(key, names, wanted.name if wanted.name in names else usual))
    if wanted.kind == "board":
        arch = host_arch()
        found.append(Choice("arch", {**dict.fromkeys(sorted(ARCHES), ""), "host": "this machine's own"}, arch or "host"))
        kernels = {name: str(one.document.raw.get("summary", "")) for name, one in workspace.readable("recipe")
                   if _may_be_kernel(one.document.raw)}  # fmt: skip
        found.append(Choice("kernel", kernels, next(iter(kernels)) if kernels else ""))
    if wanted.kind == "profile":
        raws = (one.document.raw for _, one in workspace.readable("profile"))
        inits = {str(raw["init"]): "" for raw in raws if "init" in raw}
        found.append(Choice("init", inits, next(iter(inits)) if inits else ""))
    return found


def _may_be_kernel(raw: Mapping[str, object]) -> bool:
    build, packages = raw.get("build"), raw.get("package")
    if isinstance(build, dict) and build.get("using") == "kernel":
        return True
    files = [rule.get("files") for rule in packages.values() if isinstance(rule, dict)] if isinstance(packages, dict) else []
    return any(isinstance(one, list) and any(str(path).startswith("/boot") for path in one) for one in files)


def draft(workspace: Workspace, wanted: Wanted) -> Draft:
    """The files of a new definition. Raises YarrikError for a name or choice that cannot be, and for what exists already."""
    _check(wanted.name, Place(workspace.root))
    chosen = _settled(choices(workspace, wanted), wanted)
    if wanted.kind == "shelf":
        return _shelf_draft(workspace, wanted.name)
    known = workspace.shelved[wanted.kind]
    if wanted.name in known:
        raise YarrikError(
            Trouble("NEW-EXISTS", f"there is a {wanted.kind} `{wanted.name}` already", Place(known[wanted.name].file),
                    remedy=f"choose another name, or see what it is: yarrik show {wanted.name}")
        )  # fmt: skip
    if wanted.kind == "product":
        top = workspace.root
    else:
        top = workspace.root / next(one.place for one in workspace.settings.shelf if one.name == chosen["shelf"])
    if wanted.kind == "recipe":
        folder = top / "recipes" / wanted.name
        return Draft({
            folder / "recipe.toml": texts.recipe_text(wanted.name),
            folder / "src/Makefile": texts.makefile_text(wanted.name),
            folder / f"src/{wanted.name}.c": texts.program_text(wanted.name),
        })  # fmt: skip
    folder = top / f"{wanted.kind}s"
    files = {folder / f"{wanted.name}.toml": _text(workspace, wanted, chosen)}
    if wanted.hardware is not None:
        files |= {folder / name: data.decode("utf-8", "surrogateescape") for name, data in wanted.hardware.files.items()}
        if any(one.settable for one in wanted.hardware.drivers):
            files[folder / f"{wanted.name}.kcfg"] = fragment_of(wanted.hardware)
    return Draft(files)


def _text(workspace: Workspace, wanted: Wanted, chosen: Mapping[str, str]) -> str:
    kind, base = wanted.kind, wanted.base
    if base:
        if kind not in DERIVED:
            raise YarrikError(Trouble("NEW-CHOICE", f"a {kind} cannot be made from another one",
                                      remedy=f"--from goes with {listed(DERIVED, 'or')}"))  # fmt: skip
        known = workspace.shelved[kind]
        if base not in known:
            raise YarrikError(Trouble("NEW-CHOICE", f"there is no {kind} `{base}`", remedy=suggestion(base, known)))
        if wanted.copy or kind == "product":
            return known[base].document.file.read_text(encoding="utf-8")
        derived = {"board": texts.derived_board_text, "image": texts.derived_image_text, "profile": texts.derived_profile_text}
        prefix = _missing_prefix(workspace, base) if kind == "board" else ""
        return texts.derived_board_text(base, prefix) if prefix else derived[kind](base)
    if kind == "board":
        arch = wanted.hardware.arch if wanted.hardware is not None else chosen["arch"]
        prefix = "" if arch in ("host", host_arch()) else ARCHES[arch].compiler_prefix
        made = texts.board_text(wanted.name, arch, chosen["kernel"], _CONSOLES[arch], prefix)
        return texts.with_hardware(made, wanted.name, wanted.hardware) if wanted.hardware is not None else made
    if kind == "image":
        return texts.image_text(["shell"] if "shell" in workspace.shelved["recipe"] else [])
    if kind == "profile":
        return texts.profile_text(chosen["init"])
    if kind == "product":
        return texts.product_text(chosen["board"], chosen["profile"], chosen["image"])
    return texts.variant_text()


def _missing_prefix(workspace: Workspace, base: str) -> str:
    """The prefix of a cross compiler for a board whose base names none, and is for another architecture than this machine."""
    board = workspace.by_kind["board"][base].value
    if board.arch in ("host", host_arch()) or board.toolchain.prefix or board.toolchain.recipe:
        return ""
    return ARCHES[board.arch].compiler_prefix


def _shelf_draft(workspace: Workspace, name: str) -> Draft:
    known = {choice.name: choice.place for choice in workspace.settings.shelf}
    if name in known:
        raise YarrikError(Trouble("NEW-EXISTS", f"the workspace has a shelf `{name}` already", Place(workspace.file),
                                  remedy="choose another name"))  # fmt: skip
    path = f"shelves/{name}"
    return Draft({workspace.root / path / "shelf.toml": texts.shelf_text(name)}, (name, path))


def _settled(open_: Sequence[Choice], wanted: Wanted) -> dict[str, str]:
    """Each choice's name: as wanted, else the usual one."""
    settled: dict[str, str] = {}
    for choice in open_:
        name = (wanted.shelf if choice.key == "shelf" else wanted.chosen.get(choice.key, "")) or choice.usual
        if not name:
            raise YarrikError(
                Trouble("NEW-CHOICE", f"which {choice.key} the {wanted.kind} `{wanted.name}` has is not given",
                        remedy=f"give --{choice.key}: {listed(choice.names, 'or')}" if choice.names
                               else f"make one: yarrik new {choice.key} NAME")
            )  # fmt: skip
        if name not in choice.names:
            raise YarrikError(Trouble("NEW-CHOICE", f"there is no {choice.key} `{name}`",
                                      remedy=suggestion(name, choice.names)))  # fmt: skip
        settled[choice.key] = name
    return settled


def write_draft(workspace: Workspace, made: Draft) -> list[Path]:
    """Writes the files of a draft, and lists a new shelf in yarrik.toml, which keeps its comments. Raises YarrikError."""
    first = next(iter(made.files))
    beside = [workspace.root / one.place for one in workspace.settings.shelf if one.place.startswith(("/", ".."))]
    _write(made.files, next((top for top in beside if first.is_relative_to(top)), workspace.root))
    if made.shelf is None:
        return list(made.files)
    file = workspace.file
    name, path = made.shelf
    text = file.read_text(encoding="utf-8").rstrip("\n") + f'\n\n[[shelf]]\nname = "{name}"\npath = "{path}"\n'
    try:
        tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise YarrikError(Trouble("NEW-UNWRITABLE", "the shelf cannot be added to the list", Place(file), why=str(error),
                                  remedy=f'add it by hand: name = "{name}", path = "{path}"')) from error  # fmt: skip
    try:
        write_file(file, text.encode())
    except OSError as error:
        raise _unwritable(file, error) from error
    return [*made.files, file]


def _write(files: Mapping[Path, str], top: Path) -> None:
    """Writes new files below a folder, without following a link inside it. Raises YarrikError."""
    for path in files:
        if os.path.lexists(path):
            raise YarrikError(Trouble("NEW-EXISTS", f"{shown_path(path)} exists already", Place(path),
                                      why="nothing is overwritten", remedy="choose another name, or remove it"))  # fmt: skip
    for path, text in files.items():
        data = (texts.aligned(text) if path.suffix == ".toml" else text).encode()
        try:
            with Folder.at(top) as folder:
                words = path.relative_to(top).parts
                for count in range(1, len(words)):
                    with contextlib.suppress(FileExistsError):
                        folder.make_folder("/".join(words[:count]))
                handle = folder.create("/".join(words), 0o644)
                try:
                    with os.fdopen(handle, "wb") as sink:
                        sink.write(data)
                except OSError:
                    folder.remove("/".join(words))  # half a file would be in the way of the next try
                    raise
        except OSError as error:
            raise _unwritable(path, error) from error


def _unwritable(path: Path, error: OSError) -> YarrikError:
    return YarrikError(Trouble("NEW-UNWRITABLE", f"cannot write {shown_path(path)}: {error.strerror}", Place(path),
                               remedy="choose a folder of yours with free space"))  # fmt: skip


def _check(name: str, place: Place) -> None:
    try:
        check_name(name)
    except Unfit as error:
        raise YarrikError(Trouble("NEW-NAME", str(error), place, remedy="choose another name")) from error
