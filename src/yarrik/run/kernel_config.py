"""Kernel configuration: which options of a fragment did not survive, and what they depend on."""

from __future__ import annotations

import re
import stat
from collections.abc import Collection, Iterator
from pathlib import Path

from yarrik.beneath import Folder
from yarrik.errors import Place, Trouble

_SET = re.compile(r"(CONFIG_\w+)=(.*)\Z")
_UNSET = re.compile(r"# (CONFIG_\w+) is not set\Z")


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


#: What makes a kernel carry the folder `initramfs` beside its build folder as its own initramfs.
BUILT_IN_OPTIONS = '\nCONFIG_BLK_DEV_INITRD=y\nCONFIG_INITRAMFS_SOURCE="../initramfs"\n'


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
    for name, (wanted, line) in options(fragment).items():
        got = have.get(name, ("n", 0))[0]
        if name in overruled or got == wanted or (wanted == "m" and got == "y"):
            continue
        known, depends = _definition(name.removeprefix("CONFIG_"), source)
        if not known:
            why = "no Kconfig file of this kernel defines it"
            remedy = "check its spelling, and whether this kernel version has it"
        elif depends:
            why = "it depends on " + "; and on ".join(depends)
            remedy = "turn on what it depends on in the same fragment"
        else:
            why = "another option selects it or holds it where it is"
            remedy = "look it up in the kernel's option menu"
        shown = "not set" if got == "n" else got
        yield Trouble("KERNEL-OPTION-LOST", f"{name}={wanted} was asked for and came out as {shown}",
                      file if isinstance(file, Place) else Place(file, line, name), why=why, remedy=remedy)  # fmt: skip


def _definition(name: str, source: Folder) -> tuple[bool, list[str]]:
    """Whether any Kconfig file defines the option, and the conditions it depends on."""
    head = re.compile(rf"^(?:menu)?config {re.escape(name)}\s*$", re.MULTILINE)
    known = False
    conditions: dict[str, None] = {}
    for path, status, _ in source.walk():
        if not path.rpartition("/")[2].startswith("Kconfig") or not stat.S_ISREG(status.st_mode):
            continue
        text = source.text(path)
        for match in head.finditer(text):
            known = True
            for line in text[match.end() :].splitlines()[1:]:
                if re.match(r"(?:menu)?config |endmenu|endif|source |choice|comment ", line):
                    break
                if found := re.match(r"\s+depends on (.+)", line):
                    conditions[found.group(1).strip()] = None
    return known, list(conditions)
