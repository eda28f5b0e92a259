"""Kernel configuration: which options of a fragment did not survive, and what they depend on."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from yarrik.beneath import Folder
from yarrik.errors import Place, Trouble, suggestion
from yarrik.patterns import lazy_pattern
from yarrik.run.kconfig import Condition, Option, Options

_SET = lazy_pattern(r"(CONFIG_\w+)=(.*)\Z")
#: The line that a kernel's configuration begins with: `# Linux/arm64 6.1.0 Kernel Configuration`.
_HEAD = lazy_pattern(r"\A(?:#.*\n)*# Linux/(\w+) ")
_LEVEL = {"m": 1, "y": 2}
_UNSET = lazy_pattern(r"# (CONFIG_\w+) is not set\Z")


def options(text: str) -> dict[str, tuple[str, int]]:
    """Options with their values (`n` for unset) and line numbers; the last word on each counts."""
    found: dict[str, tuple[str, int]] = {}
    for number, line in enumerate(text.splitlines(), 1):
        line = line.strip()
        if match := _SET.match(line):
            found[match.group(1)] = (match.group(2).strip(), number)
        elif match := _UNSET.match(line):
            found[match.group(1)] = ("n", number)
    return found


def carried_options(path: str) -> str:
    """What makes a kernel carry a folder or archive as its own initramfs; "" for none."""
    return f'\nCONFIG_BLK_DEV_INITRD=y\nCONFIG_INITRAMFS_SOURCE="{path}"\n' if path else ""


def line_options(command_line: str, kernel_arch: str) -> str:
    """What builds a command line into a kernel, in place of whatever a bootloader says; "" for none."""
    if not command_line:
        return ""
    text = command_line.replace("\\", "\\\\").replace('"', '\\"')
    switches = {"x86": ("CONFIG_CMDLINE_BOOL", "CONFIG_CMDLINE_OVERRIDE")}.get(kernel_arch, ("CONFIG_CMDLINE_FORCE",))
    return f'\nCONFIG_CMDLINE="{text}"\n' + "".join(f"{name}=y\n" for name in switches)


def lost_options(
    fragment: str, file: Path | Place, final: str, source: Folder, overruled: Collection[str] = ()
) -> Iterator[Trouble]:
    """Troubles for each option of the fragment that the final configuration has otherwise.

    `source` is the kernel's tree, to say what a lost option depends on; `overruled` are options not to look at."""
    have = options(final)
    doubtful = {
        name: (wanted, line, have.get(name, ("n", 0))[0])
        for name, (wanted, line) in options(fragment).items()
        if name not in overruled and (wanted == "m" or wanted != have.get(name, ("n", 0))[0])
    }
    if not doubtful:
        return
    head = _HEAD.search(final)
    known = Options.of(source, head.group(1) if head else "")
    values = {name.removeprefix("CONFIG_"): value for name, (value, _) in have.items()}
    for name, (wanted, line, got) in doubtful.items():
        definitions = known.defined.get(name.removeprefix("CONFIG_"), [])
        only_yes_or_no = wanted == "m" and definitions and all(found.type == "bool" for found in definitions)
        if got == wanted or (wanted == "m" and got == "y" and not only_yes_or_no):
            continue
        if only_yes_or_no:
            why, remedy = "it is a `bool`, which knows only yes and no", f"write {name}=y"
        else:
            why, remedy = reason_for_loss(name.removeprefix("CONFIG_"), wanted, definitions, known, values)
        shown = "not set" if got == "n" else got
        yield Trouble("KERNEL-OPTION-LOST", f"{name}={wanted} was asked for and came out as {shown}",
                      file if isinstance(file, Place) else Place(file, line, name), why=why, remedy=remedy)  # fmt: skip


def reason_for_loss(
    name: str, wanted: str, definitions: Sequence[Option], known: Options, values: Mapping[str, str]
) -> tuple[str, str]:
    """Why an option is not as it was asked for, and what to do."""
    if not definitions:
        return "no Kconfig file of this kernel defines it", "check its spelling, and whether this kernel version has it"
    selected = known.selectors.get(name, [])
    if wanted == "n":
        by = [
            other
            for other, condition in selected
            if values.get(other, "n") != "n" and Condition(condition or "y", values).level
        ]
        if by:
            names = [f"CONFIG_{other}" for other in by]
            return f"{_listed(by, 'and')} {'selects' if len(by) == 1 else 'select'} it", f"turn off {_listed(names, 'and')}"
        return "another option holds it where it is", "look it up in the kernel's option menu"
    level = 1 if wanted == "m" else 2
    asked = [found for found in definitions if found.prompted]
    if not asked:
        if not selected:
            return "it has no prompt, so no fragment can set it: the kernel works it out", "take it out of the fragment"
        return (f"it has no prompt, so no fragment can set it: {_listed([other for other, _ in selected])} selects it",
                "turn on what needs it, and take it out of the fragment")  # fmt: skip
    unmet = [[one for text in known.conditions(found) if (one := _unmet(text, values, level))] for found in asked]
    fewest = min(unmet, key=len)
    chosen = _chosen_instead(name, definitions, known, values)
    if not fewest and chosen:
        return f"it is one of a choice, and {chosen} is chosen", f"take CONFIG_{chosen} out, or turn it off"
    if not fewest:
        return "another option holds it where it is", "look it up in the kernel's option menu"
    off = [option for one in fewest for option in one.off]
    simple = off and all(one.simple for one in fewest)
    remedy = f"add {_listed([f'CONFIG_{option}=y' for option in off], 'and')} to the same fragment" if simple else (
        "give these options what it asks for in the same fragment")  # fmt: skip
    return "it depends on " + "; and on ".join(one.text for one in fewest), remedy


def _chosen_instead(name: str, definitions: Sequence[Option], known: Options, values: Mapping[str, str]) -> str:
    """The option of the same choice that is on; "" for one that is in no choice."""
    numbers = {one.choice for one in definitions if one.choice}
    return next(
        (
            other
            for other, found in known.defined.items()
            if other != name and values.get(other, "n") != "n" and any(one.choice in numbers for one in found)
        ),
        "",
    )


class _Unmet(NamedTuple):
    """A condition that does not hold, in words; the options that are off in it; whether turning these on is all there is."""

    text: str
    off: list[str]
    simple: bool


def _unmet(text: str, values: Mapping[str, str], level: int) -> _Unmet | None:
    condition = Condition(text, values)
    if condition.level >= level:
        return None
    off = [name for name in dict.fromkeys(condition.plain) if _LEVEL.get(values.get(name, "n"), 0) < level]
    on = [name for name in dict.fromkeys(condition.negated) if _LEVEL.get(values.get(name, "n"), 0)]
    words = []
    for names, state in (
        ([name for name in off if values.get(name, "n") == "n"], "not set"),
        ([name for name in off if values.get(name, "n") == "m"], "only m"),
        (on, "set"),
    ):
        if names:
            words.append(f"{_listed(names, 'and')} {'is' if len(names) == 1 else 'are'} {state}")
    if off == [text]:
        shown = f"{text}, which is {'only m' if values.get(text) == 'm' else 'not set'}"
    else:
        shown = f"`{text}`" + (f", where {' and '.join(words)}" if words else "")
    return _Unmet(shown, off, simple=not on and "||" not in text and "=" not in text)


def _listed(names: Sequence[str], last: str = "or") -> str:
    shown = list(dict.fromkeys(names))
    more = len(shown) - 4
    if more > 0:
        return ", ".join(shown[:4]) + f" {last} {more} more"
    return f" {last} ".join([", ".join(shown[:-1]), shown[-1]] if len(shown) > 1 else shown)


#: Targets of the kernel's own Makefile that make a configuration (`make help`, "Configuration targets").
_TARGETS = ("defconfig", "tinyconfig", "allnoconfig", "alldefconfig", "allyesconfig", "allmodconfig", "randconfig")


def base_problem(
    base: str, kernel_arch: str, files: Mapping[str, str], text: Callable[[str], str], place: Place, configs: str = ""
) -> Trouble | None:
    """A trouble when a kernel's sources have no such base configuration; None when they have it. `files` are the paths of the
    sources' files with whatever `text` needs to read one. A bootloader has its base configurations in the folder `configs`."""
    if configs:
        known = [path.removeprefix(configs) for path in files if path.startswith(configs)]
        if base in known or not known:
            return None
        return Trouble("KERNEL-BASE-UNKNOWN", f"the bootloader's sources have no base configuration `{base}`", place,
                       why=f"bases are the files of {configs}", remedy=suggestion(base, known))  # fmt: skip
    folder = f"arch/{kernel_arch}/configs/"
    makefile = f"arch/{kernel_arch}/Makefile"
    if not base or base in _TARGETS or base.endswith(".config") or f"{folder}{base}" in files or makefile not in files:
        return None
    if re.search(rf"(?m)^(?:PHONY \+=.*\b)?{re.escape(base)}\b", text(files[makefile])):
        return None  # one that the architecture's Makefile puts together
    known = [*_TARGETS[:3], *(path.removeprefix(folder) for path in files if path.startswith(folder))]
    return Trouble(
        "KERNEL-BASE-UNKNOWN",
        f"the kernel's sources have no base configuration `{base}` for {kernel_arch}",
        place,
        why=f"bases are the files of {folder} and targets like `defconfig`",
        remedy=suggestion(base, known),
    )
