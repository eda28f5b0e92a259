"""Which packages an image needs: those it names, those they name, and those that bring what their ELF files load."""

from __future__ import annotations

import posixpath
from collections.abc import Iterable, Mapping

import msgspec

from yarrik.elf import ElfFacts
from yarrik.errors import Collector, Place, Trouble, listed, suggestion
from yarrik.toolchain import RUNTIME_PACKAGES, UNWINDER, runtime_key, runtime_package

#: Where the loader looks for shared libraries.
LIBRARY_FOLDERS = ("/lib", "/usr/lib", "/lib64", "/usr/lib64")
#: How programs name the GNU C library.
_GNU_LIBRARY = "libc.so.6"


class PackagedPath(msgspec.Struct, frozen=True):
    """One path of a package. `content` is a file's digest or a link's destination; `owner` is an account's name, `group` that
    of a group, or empty for the owner's first one. `attributes` are extended ones."""

    path: str
    kind: str
    mode: int
    size: int
    content: str
    owner: str = "root"
    group: str = ""
    attributes: tuple[tuple[str, bytes], ...] = ()


class LinkedIn(msgspec.Struct, frozen=True):
    """What of another recipe is in a package's files, linked statically: that recipe, the libraries (their paths on the build's
    side), and the files of the package that have it."""

    recipe: str
    version: str
    licence: str
    libraries: tuple[str, ...]
    files: tuple[str, ...]


class BuiltPackage(msgspec.Struct, frozen=True):
    """A package as a recipe yielded it; `elf` has the facts of each ELF file by path, `linked` what is linked in of others."""

    name: str
    recipe: str
    version: str
    licence: str
    summary: str
    needs: tuple[str, ...]
    paths: tuple[PackagedPath, ...]
    elf: Mapping[str, ElfFacts]
    linked: tuple[LinkedIn, ...] = ()

    @property
    def size(self) -> int:
        """Bytes of the package's files."""
        return sum(path.size for path in self.paths if path.kind == "file")

    @property
    def recipes(self) -> tuple[str, ...]:
        """Its recipe, and those with something linked into it."""
        return (self.recipe, *(one.recipe for one in self.linked))


class Chosen(msgspec.Struct, frozen=True):
    """A package that goes into the image, and why."""

    package: BuiltPackage
    because: str


def choose_packages(candidates: Iterable[BuiltPackage], roots: Iterable[tuple[str, str]]) -> list[Chosen]:
    """Starts with the roots (package name and reason) and follows declared needs and those of ELF files.

    Returns packages by name. Raises YarrikError with everything that nothing brings."""
    by_name = {package.name: package for package in candidates}
    brings: dict[str, list[str]] = {}
    named: dict[str, list[tuple[str, str]]] = {}
    for package in by_name.values():
        for path in package.paths:
            if path.kind != "folder":
                brings.setdefault(path.path, []).append(package.name)
                named.setdefault(path.path.rpartition("/")[2], []).append((package.name, path.path))
    collector = Collector()
    chosen: dict[str, Chosen] = {}
    waiting = list(roots)
    position = 0
    while position < len(waiting):
        name, because = waiting[position]
        position += 1
        if name in chosen:
            continue
        if name not in by_name:
            collector.add(
                Trouble("PACKAGE-MISSING", f"no recipe yielded the package `{name}` ({because})",
                        remedy=suggestion(name, by_name))
            )  # fmt: skip
            continue
        package = by_name[name]
        chosen[name] = Chosen(package, because)
        waiting.extend((need, f"needed by {name}") for need in package.needs)
        for file, facts in sorted(package.elf.items()):
            for wanted, places in _loads(file, facts):
                owners = sorted({owner for place in places for owner in brings.get(place, ())})
                if not owners:
                    collector.add(_nothing_brings(package, file, facts, wanted, named.get(wanted, ())))
                elif len(owners) > 1 and not set(owners) & ({package.name} | chosen.keys()):
                    collector.add(
                        Trouble(
                            "LIBRARY-AMBIGUOUS",
                            f"{file} of `{name}` loads {wanted}, which several packages bring: {', '.join(owners)}",
                            remedy="name the right one in the image's `packages`",
                        )
                    )
                else:
                    near = [owner for owner in owners if owner == name or owner in chosen]
                    waiting.append(((near or owners)[0], f"{file} loads {wanted}"))
            if facts.unwinds and _GNU_LIBRARY in facts.needed:
                unwinders = [one for place in library_places(UNWINDER, file, facts) for one in brings.get(place, ())]
                waiting += [(one, f"{file} calls {facts.unwinds}, which loads {UNWINDER}") for one in unwinders[:1]]
    collector.raise_if_any("work")
    return [chosen[name] for name in sorted(chosen)]


def _loads(path: str, facts: ElfFacts) -> Iterable[tuple[str, list[str]]]:
    """What an ELF file makes the system load, with the places where that may be."""
    if facts.interpreter:
        # In a merged layout the loader may be brought below /usr: the image's check follows the link that leads there.
        yield facts.interpreter, [facts.interpreter, f"/usr{facts.interpreter}"]
    for name in facts.needed:
        yield name, library_places(name, path, facts)


def library_places(name: str, user: str, facts: ElfFacts) -> list[str]:
    """Where the loader looks for a library that the ELF file at `user` needs, in its order: ld.so(8).

    The folder of a library itself counts too: a program may have loaded it by a RUNPATH that leads there."""
    origin = user.rpartition("/")[0]
    own = [folder.replace("${ORIGIN}", origin).replace("$ORIGIN", origin) for folder in facts.runpath]
    folders = [posixpath.normpath(folder) for folder in own if folder.startswith("/") and "$" not in folder]
    folders += [*LIBRARY_FOLDERS, *([origin] if facts.kind == "library" else [])]
    places = [f"{folder}/{name}" for folder in dict.fromkeys(folders)]
    if facts.interpreter.endswith("/" + name):
        places.append(facts.interpreter)
    return places


def _nothing_brings(
    package: BuiltPackage, path: str, facts: ElfFacts, wanted: str, elsewhere: Iterable[tuple[str, str]]
) -> Trouble:
    found = next(iter(sorted(elsewhere)), None)
    if found is not None and wanted != facts.interpreter:
        owner, place = found
        folders = dict.fromkeys(one.rpartition("/")[0] for one in library_places(wanted, path, facts))
        user = f"{path} of the package `{package.name}`"
        return unsearched(user, wanted, f"the package `{owner}` brings it as {place}", place, folders)
    key = runtime_key(wanted)
    if key is not None and RUNTIME_PACKAGES[key].when_asked:
        remedy = f"add `{runtime_package(key, 'libc')}` to the image's `packages`: the toolchain brings it when it is asked for"
    else:
        remedy = f"add the recipe that builds {wanted} to `build.needs` of `{package.recipe}`, and let a package list the file"
    return Trouble(
        "LIBRARY-MISSING",
        f"{path} of the package `{package.name}` loads {wanted}, which no package of this build brings",
        Place(),
        why="the program would not start on the board",
        remedy=remedy,
    )


def unsearched(user: str, wanted: str, where: str, place: str, folders: Iterable[str]) -> Trouble:
    """A library that is there, in a folder in which the loader does not look."""
    folder = place.rpartition("/")[0]
    return Trouble(
        "LIBRARY-UNSEARCHED",
        f"{user} loads {wanted}, which the loader does not find: {where}",
        why=f"the loader looks in {listed(folders)}",
        remedy=f"install the library into /usr/lib, or link the program with -Wl,-rpath,{folder}",
    )
