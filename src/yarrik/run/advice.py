"""What is looked at once it is known which packages are in an image: symbol versions, licences, rights, protections."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Iterator, Mapping, Sequence

from yarrik.elf import HARDENING
from yarrik.errors import Collector, Trouble
from yarrik.kernel_calls import missing_needs, missing_options
from yarrik.patterns import lazy_pattern
from yarrik.plan import shortened
from yarrik.resolve import BuiltPackage
from yarrik.rootfs import RootTree

#: One piece of advice names at most this number of files, and counts the others.
_MOST = 5
_SETUID, _SETGID, _STICKY, _WRITABLE = 0o4000, 0o2000, 0o1000, 0o002
_LICENCE_WORD = lazy_pattern(r"[A-Za-z0-9.+-]+")


def check_symbol_versions(packages: Sequence[BuiltPackage]) -> None:
    """Raises YarrikError for each file that needs a symbol version which its library in the image does not have: a program
    that was built against a newer library stops before its first line."""
    libraries: dict[tuple[str, str], list[tuple[str, str, tuple[str, ...]]]] = {}
    for package in packages:
        for path, facts in package.elf.items():
            if facts.kind == "library" or facts.soname:
                name = facts.soname or path.rpartition("/")[2]
                libraries.setdefault((facts.arch, name), []).append((package.name, path, facts.offers))
    collector = Collector()
    for package in packages:
        for path, facts in sorted(package.elf.items()):
            missing: dict[str, list[str]] = {}
            for library, version in facts.versions:
                known = libraries.get((facts.arch, library), [])
                if any(offers for _, _, offers in known) and not any(version in offers for _, _, offers in known):
                    missing.setdefault(library, []).append(version)
            for library, versions in sorted(missing.items()):
                owner, place, offers = libraries[facts.arch, library][0]
                newest = max(offers, key=_order, default="none")
                what = f"{path} of the package `{package.name}` needs {', '.join(versions)} of {library}"
                collector.add(
                    Trouble("SYMBOL-VERSION", f"{what}, and {place} of the package `{owner}` is too old",
                            why=f"the newest that it has is {newest}; the loader would refuse to start the program",
                            remedy=f"build `{package.recipe}` against the library that is in the image, or take a newer one")
                )  # fmt: skip
    collector.raise_if_any("work")


def _order(version: str) -> list[tuple[int, str]]:
    return [(int(part), "") if part.isdecimal() else (0, part) for part in re.findall(r"\d+|\D+", version)]


def check_licences(packages: Sequence[BuiltPackage], refused: Sequence[str]) -> None:
    """Raises YarrikError for packages under a licence that the profile refuses, or with such a one linked in. Of
    a choice (`OR`) one that is left will do."""
    collector = Collector()
    for package in packages:
        if hit := _refused_word(package.licence, refused):
            what = f"the package `{package.name}` (recipe `{package.recipe}`) is under {package.licence}"
            collector.add(
                Trouble("LICENCE-REFUSED", what,
                        why=f"the profile refuses {hit} (`refuse-licences`)",
                        remedy=f"leave it out, or take one under another licence: yarrik why {package.name}")
            )  # fmt: skip
        for one in package.linked:
            if hit := _refused_word(one.licence, refused):
                libraries = shortened([path.rpartition("/")[2] for path in one.libraries], 3)
                what = (
                    f"{shortened(list(one.files), 3)} of the package `{package.name}` has {libraries} of `{one.recipe}` in it"
                )
                collector.add(
                    Trouble("LICENCE-REFUSED", f"{what}, which is under {one.licence}",
                            why=f"it is linked statically, and the profile refuses {hit} (`refuse-licences`)",
                            remedy=f"leave `{package.name}` out, let `{package.recipe}` link with the shared library, or let "
                                   f"`{one.recipe}` install no static one")
                )  # fmt: skip
    collector.raise_if_any("work")


def _refused_word(licence: str, refused: Sequence[str]) -> str:
    """A word of a licence that is refused, when no choice is left; else an empty text."""
    choices = [_LICENCE_WORD.findall(choice) for choice in re.split(r"\bOR\b", licence)]
    hits = [next((word for word in words if _refuses(word, refused)), "") for words in choices]
    return hits[0] if all(hits) else ""


def _refuses(licence: str, refused: Sequence[str]) -> bool:
    return any(fnmatch.fnmatchcase(licence, one) for one in refused)


def advice(root: RootTree, packages: Sequence[BuiltPackage], expects: Sequence[str]) -> Iterator[tuple[str, str]]:
    """What is likely not meant, as codes with texts: each names files with their packages."""
    by_name = {package.name: package for package in packages}

    def named(path: str, package: str) -> str:
        return _named(path, package, by_name)

    setuid = [node for node in root.nodes if node.kind == "file" and node.mode & (_SETUID | _SETGID) and node.mode & 0o111]
    if setuid:
        names = shortened([named(node.path, node.package) for node in setuid], _MOST)
        yield "FILE-SETUID", f"run with the rights of their owner or group for every user: {names}"
    writable = [node for node in root.nodes if node.kind in ("file", "folder") and node.mode & _WRITABLE
                and not (node.kind == "folder" and node.mode & _STICKY)]  # fmt: skip
    if writable:
        names = shortened([named(node.path, node.package) for node in writable], _MOST)
        yield "FILE-WRITABLE", f"can be changed by everybody: {names}"
    for lack in HARDENING:
        if lack not in expects and lack != "no-executable-stack":
            continue
        files = [named(path, package.name) for package in packages for path, facts in sorted(package.elf.items())
                 if lack in facts.lacks]  # fmt: skip
        if files:
            code = "ELF-STACK" if lack == "no-executable-stack" else "ELF-HARDENING"
            yield code, f"without `{lack}`, so {HARDENING[lack]}: {shortened(files, _MOST)}"


def kernel_calls(packages: Sequence[BuiltPackage], config: Mapping[str, str]) -> Iterator[str]:
    """A text for each option that the kernel lacks and programs or libraries need, with the functions that they call, and for
    those that a program does not work without at all.

    `config` has the values of the kernel's options, without `CONFIG_`. What a statically linked program calls is not known."""
    by_name = {package.name: package for package in packages}
    lacking: dict[str, dict[str, list[str]]] = {}
    for package in packages:
        for path, facts in sorted(package.elf.items()):
            for option, functions in missing_options(facts.kernel_calls, config).items():
                for function in functions:
                    lacking.setdefault(option, {}).setdefault(function, []).append(_named(path, package.name, by_name))
    useless: dict[str, list[str]] = {}
    for package in packages:
        for path in sorted(package.elf):
            for option in missing_needs(path, config):
                useless.setdefault(option, []).append(_named(path, package.name, by_name))
    for option, files in sorted(useless.items()):
        do = "does" if len(files) == 1 else "do"
        yield (f"the kernel has no CONFIG_{option}, and {shortened(files, _MOST)} {do} not work without it; "
               f"yarrik kernel set {option}=y")  # fmt: skip
    for option, calls in sorted(lacking.items()):
        if option in useless:
            continue
        files = list(dict.fromkeys(file for one in calls.values() for file in one))
        yield (f"the kernel has no CONFIG_{option}, and {' and '.join(sorted(calls))} will fail without it; called by "
               f"{shortened(files, _MOST)}; yarrik kernel set {option}=y")  # fmt: skip


def _named(path: str, package: str, by_name: Mapping[str, BuiltPackage]) -> str:
    """A file with its package, and the recipe where that has another name."""
    recipe = by_name[package].recipe if package in by_name else ""
    whose = f" ({package}" + (f" of {recipe}" if recipe not in ("", package) else "") + ")" if package else ""
    return f"{path}{whose}"
