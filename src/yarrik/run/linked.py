"""What is linked statically into a recipe's programs and libraries: objects of other recipes' archives, found again by the
names and sizes of their functions. The linker takes whole objects, and leaves their functions as they are."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

import msgspec

from yarrik.cache import Entry, Store, Tree, is_digest
from yarrik.elf import ElfFacts, functions
from yarrik.errors import Damaged
from yarrik.objects import AR_MAGIC, functions_in_archive
from yarrik.patterns import lazy_pattern
from yarrik.plan import Stage
from yarrik.resolve import LinkedIn
from yarrik.rootfs import quoted

_LIBRARY = lazy_pattern(r"(?:.*/)?lib[^/]*\.a\Z")
#: Smaller functions (bytes) are alike by chance.
_SMALLEST = 16
#: What a program has that is linked statically with a C library.
_START = b"__libc_start_main"


class StaticLibrary(msgspec.Struct, frozen=True):
    """An archive of a recipe: its path, and for each of its objects the functions with their sizes in bytes. A size of 0 is not
    known: the object waits for optimisation at link time."""

    recipe: str
    version: str
    licence: str
    path: str
    objects: tuple[dict[bytes, int], ...]


class StaticLibraries(msgspec.Struct, frozen=True):
    """The archives of a recipe, and the digests of the same of what it needs."""

    own: tuple[StaticLibrary, ...]
    needs: tuple[str, ...] = ()


class Linked(msgspec.Struct, frozen=True):
    """A file of a recipe with objects of a `library` of another one in it."""

    file: str
    recipe: str
    version: str
    licence: str
    library: str


def static_libraries(action: Stage, tree: Tree, store: Store) -> Iterator[StaticLibrary]:
    """The static libraries of what a recipe installs."""
    for entry in tree.files:
        if not _LIBRARY.match(entry.path):
            continue
        with store.checked_path(entry.content).open("rb") as file:
            if file.read(len(AR_MAGIC)) == AR_MAGIC:
                objects = tuple(dict(sorted(one.items())) for one in functions_in_archive(file))
                path = "/" + quoted(entry.path)
                yield StaticLibrary(action.recipe, action.version, action.licence, path, objects)


def libraries_below(store: Store, tops: Iterable[str]) -> list[StaticLibrary]:
    """The libraries of all recipes that these documents lead to. Raises MissingObject, and Damaged for what does not read as
    such a document."""
    found: dict[tuple[str, str], StaticLibrary] = {}
    seen: set[str] = set()
    waiting = list(tops)
    while waiting:
        digest = waiting.pop()
        if digest in seen:
            continue
        seen.add(digest)
        try:
            one = _decoded(store.get_bytes(digest))
        except msgspec.DecodeError as error:
            raise Damaged(f"what is known of static libraries does not read as such: {error}") from error
        found |= {(library.recipe, library.path): library for library in one.own}
        waiting.extend(one.needs)
    return [found[key] for key in sorted(found)]


def linked_in(
    action: Stage, elves: Mapping[str, tuple[Entry, ElfFacts]], libraries: Sequence[StaticLibrary], store: Store
) -> tuple[list[Linked], list[str]]:
    """What of `libraries` is in ELF files (by path), and those files of which it cannot be told: their symbols are out."""
    found: list[Linked] = []
    untold: list[str] = []
    known: dict[str, dict[bytes, int] | None] = {}
    for path, (entry, facts) in sorted(elves.items()):
        alone = facts.kind in ("program", "library") and not facts.interpreter and not facts.needed and not facts.soname
        if not libraries and not (alone and action.runtime):
            continue
        if entry.content not in known:
            with store.checked_path(entry.content).open("rb") as file:
                known[entry.content] = functions(file)
        own = known[entry.content]
        if own is None:
            # Without libraries it may be anything that stands alone, like firmware that somebody else built.
            untold += [path] if libraries else []
            continue
        name = "/" + quoted(path)
        hits = [one for one in libraries if any(_is_in(each, own) for each in one.objects)]
        found += [Linked(name, one.recipe, one.version, one.licence, one.path) for one in hits]
        by_other = any(_START in each for one in hits for each in one.objects)
        if alone and action.runtime and _START in own and not by_other:
            found.append(Linked(name, *action.runtime, "libc.a"))
    return found, untold


def _is_in(functions_of_object: Mapping[bytes, int], own: Mapping[bytes, int]) -> bool:
    """Whether an object is part of a file: more of its functions are there as they were than with another size."""
    same = other = 0
    for name, size in functions_of_object.items():
        if name in own and (not size or (size >= _SMALLEST and own[name] >= _SMALLEST)):
            same += not size or own[name] == size
            other += bool(size) and own[name] != size
    return same > other


def by_recipe(rows: Sequence[Linked], files: Iterable[str]) -> tuple[LinkedIn, ...]:
    """What is linked into those of `files`, for each recipe."""
    chosen = set(files)
    groups: dict[tuple[str, str, str], list[Linked]] = {}
    for row in rows:
        if row.file in chosen:
            groups.setdefault((row.recipe, row.version, row.licence), []).append(row)
    return tuple(
        LinkedIn(*key, tuple(sorted({one.library for one in group})), tuple(sorted({one.file for one in group})))
        for key, group in sorted(groups.items())
    )


def put_libraries(store: Store, own: Iterable[StaticLibrary], needs: Iterable[str]) -> str:
    """Keeps the libraries of a recipe and of what it needs; the document's digest. Recipes that have none add nothing."""
    nothing = store.put_bytes(msgspec.msgpack.encode(StaticLibraries(())))
    document = StaticLibraries(tuple(own), tuple(one for one in dict.fromkeys(needs) if one != nothing))
    if not document.own and len(document.needs) == 1:
        return document.needs[0]
    return store.put_bytes(msgspec.msgpack.encode(document))


def _decoded(data: bytes) -> StaticLibraries:
    found = msgspec.msgpack.decode(data, type=StaticLibraries)
    if not all(map(is_digest, found.needs)):
        raise msgspec.ValidationError("it names something that is no digest")
    return found


def encode_linked(rows: Sequence[Linked]) -> bytes:
    """What is linked in, for the cache."""
    return msgspec.json.encode(rows)


def decode_linked(data: bytes) -> list[Linked]:
    """What `encode_linked` made. Raises msgspec.DecodeError."""
    return msgspec.json.decode(data, type=list[Linked])
