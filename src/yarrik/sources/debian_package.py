"""A Debian source package's files as one tree: its `.dsc` checked, upstream's archives unpacked, the packaging laid over.

dsc(5) has the fields, dpkg-source(1) the forms: 1.0, 3.0 (quilt) and 3.0 (native)."""

from __future__ import annotations

import gzip
import io
import zlib
from collections.abc import Mapping
from pathlib import Path

import msgspec

from yarrik.cache import Entry, Store, Tree
from yarrik.errors import NOWHERE, Place, Trouble, YarrikError
from yarrik.patterns import lazy_pattern
from yarrik.sources.unpack import USUAL, Limits, unpack_archive
from yarrik.units import shown_size

_FORMATS = ("1.0", "3.0 (quilt)", "3.0 (native)")
_ORIG = lazy_pattern(r".*\.orig(?:-([A-Za-z0-9-]+))?\.tar\.(?:gz|bz2|xz)\Z")
_PACKAGING = lazy_pattern(r".*\.debian\.tar\.(?:gz|bz2|xz)\Z")
_STRIP = lazy_pattern(r"-p([0-3])\Z")
#: No .dsc and no list of patches is larger (bytes).
_LARGEST = 4 << 20
_LARGEST_PATCH = 256 << 20
SERIES = "debian/patches/series"


class Members(msgspec.Struct, frozen=True):
    """The files of a source package by what they are: upstream's archive (or the whole of a native package), further ones by
    the folder that each belongs to, the packaging as an archive, and as a patch in the oldest form."""

    main: str
    components: Mapping[str, str]
    packaging: str
    patch: str


class SeriesPatch(msgspec.Struct, frozen=True):
    """A patch of the packaging: its path in the sources, and how many parts of its paths are left out."""

    path: str
    strip: int


def wanted_files(names: Mapping[str, str], with_packaging: bool = True) -> dict[str, str]:
    """Those files of a source package that are taken in: upstream's signatures are not, nor the packaging if it is left out."""
    left_out = (".asc",) if with_packaging else (".asc", ".diff.gz")
    return {
        name: digest
        for name, digest in names.items()
        if not name.endswith(left_out) and (with_packaging or not _PACKAGING.match(name))
    }


def read_dsc(
    text: bytes, name: str, version: str, digests: Mapping[str, str], place: Place = NOWHERE, with_packaging: bool = True
) -> Members:
    """What a `.dsc` says, checked against the package that is wanted, its version, and the digests of its wanted files. Raises
    YarrikError."""
    from debian.deb822 import Dsc

    if len(text) > _LARGEST:
        raise unfit_package(name, "its .dsc is too large", place)
    try:
        dsc = Dsc(text.decode("utf-8", "replace"))
        said = {str(one["name"]): str(one["sha256"]) for one in dsc.get("Checksums-Sha256", ())}
        form, source, its_version = str(dsc.get("Format", "")), str(dsc.get("Source", "")), str(dsc.get("Version", ""))
    except (ValueError, KeyError, TypeError) as error:
        raise unfit_package(name, f"its .dsc does not read: {error}", place) from error
    if (source, its_version) != (name, version):
        raise unfit_package(name, f"its .dsc is of {source} {its_version}, and {name} {version} is wanted", place)
    if form not in _FORMATS:
        raise unfit_package(name, f"its form {form!r} is none of {', '.join(_FORMATS)}", place)
    known = {file: digest for file, digest in digests.items() if not file.endswith(".dsc")}
    if wanted_files(said, with_packaging) != wanted_files(known, with_packaging):
        raise unfit_package(name, "its .dsc names other files than the archive's index", place)
    archives = [file for file in wanted_files(said) if ".tar." in file]
    origs = {file: match[1] or "" for file in archives if (match := _ORIG.match(file))}
    packaging = [file for file in archives if _PACKAGING.match(file)]
    patch = [file for file in said if file.endswith(".diff.gz")]
    main = [file for file, component in origs.items() if not component]
    if form == "3.0 (native)" or (form == "1.0" and not main):
        main, packaging, patch, origs = archives, [], [], {}
    if len(main) != 1 or len(packaging) != (form == "3.0 (quilt)") or len(patch) > 1:
        raise unfit_package(name, f"its files are not those of the form {form}: {', '.join(sorted(said))}", place)
    components = {component: file for file, component in origs.items() if component}
    return Members(main[0], components, packaging[0] if packaging else "", patch[0] if patch else "")


def unpack_members(
    name: str, members: Members, paths: Mapping[str, Path], with_packaging: bool, store: Store, limits: Limits = USUAL
) -> Tree:
    """The tree of a source package's archives, stored: further archives of upstream in folders of their own, and the folder
    `debian` from the packaging in place of upstream's. The oldest form's patch is not laid on here."""

    def taken(file: str) -> Tree:
        return unpack_archive(paths[file], file, store, limits)

    entries = {entry.path: entry for entry in taken(members.main).entries}
    for component, file in sorted(members.components.items()):
        _put(entries, component, taken(file))
    if with_packaging and members.packaging:
        # A single folder at an archive's top is left out: here it is `debian`, and nothing may be beside it.
        _put(entries, "debian", taken(members.packaging))
    tree = Tree.of(entries.values())
    for entry in tree.entries:
        parent = entry.path.rpartition("/")[0]
        if parent and entries[parent].kind != "folder":
            raise unfit_package(name, f"{parent!r} is no folder, and {entry.path!r} is in it")
    store.put_tree(tree)
    return tree


def _put(entries: dict[str, Entry], folder: str, tree: Tree) -> None:
    """Replaces a folder by a tree."""
    for path in [path for path in entries if path == folder or path.startswith(folder + "/")]:
        del entries[path]
    entries[folder] = Entry(folder, "folder", 0o755, 0, "")
    for entry in tree.entries:
        path = f"{folder}/{entry.path}"
        entries[path] = Entry(path, entry.kind, entry.mode, entry.size, entry.content)


def series_of(name: str, text: str) -> list[SeriesPatch]:
    """The patches that a series file names, in their order (quilt(1)). Raises YarrikError for an option that is not known."""
    found = []
    for line in text.splitlines():
        words = line.partition("#")[0].split() if not line.startswith("#") else []
        if not words:
            continue
        strip = 1
        for word in words[1:]:
            match = _STRIP.match(word)
            if match is None:
                raise unfit_package(name, f"{SERIES} gives the option {word!r} for {words[0]}")
            strip = int(match[1])
        found.append(SeriesPatch(f"debian/patches/{words[0]}", strip))
    return found


def patch_text(package: str, name: str, data: bytes) -> bytes:
    """The patch in a `.diff.gz`. Raises YarrikError for one that does not expand, or to too much."""
    try:
        text = gzip.GzipFile(fileobj=io.BytesIO(data)).read(_LARGEST_PATCH + 1)
    except (OSError, EOFError, zlib.error) as error:
        raise unfit_package(package, f"{name} does not expand: {error}") from error
    if len(text) > _LARGEST_PATCH:
        raise unfit_package(package, f"{name} expands to more than {shown_size(_LARGEST_PATCH)}")
    return text


def unfit_package(name: str, why: str, place: Place = NOWHERE) -> YarrikError:
    """A source package that cannot be used as it is."""
    return YarrikError(
        Trouble("SOURCE-PACKAGE-UNFIT", f"the source package `{name}` cannot be used", place, why=why,
                remedy="take another version of it, or upstream's own archive with `url`"),
        "work",
    )  # fmt: skip
