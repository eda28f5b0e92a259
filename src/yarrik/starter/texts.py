"""The texts of new definitions. Their comments teach: no other page is needed to continue."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from yarrik.starter.hardware import Hardware


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


def _list(words: Iterable[str]) -> str:
    return json.dumps(list(words), ensure_ascii=False)


def aligned(text: str) -> str:
    """The text with the comments at the ends of its lines in one column, and behind longer lines two blanks apart."""
    lines = []
    for line in text.splitlines():
        value, mark, comment = line.rpartition("  # ")
        lines.append(f"{value.rstrip() + '  ':<34}# {comment}" if mark and value.strip() else line)
    return "\n".join(lines) + "\n"


def workspace_text(name: str, product: str) -> str:
    """yarrik.toml with the starter shelf and one of its own, which has the workspace's name."""
    return f"""\
# What this workspace is made of. Shelves are folders of definitions, in order: a later one may extend, amend or replace
# what an earlier one has.
[workspace]
name = {_quoted(name)}
product = {_quoted(product)}    # what commands build when no product is named

[[shelf]]
name = "starter"                # came with Yarrik: a stand-in kernel, an init, a shell, boards that an emulator has
path = "shelves/starter"

[[shelf]]
name = {_quoted(name)}          # yours
path = {_quoted(f"shelves/{name}")}
"""


def shelf_text(name: str, needs: Iterable[str] = ()) -> str:
    """shelf.toml."""
    needed = f"needs = {_list(needs)}    # shelves that have to be in the workspace too\n" if needs else ""
    return f"""\
[shelf]
name = {_quoted(name)}
summary = {_quoted(f"Definitions of {name}")}
version = "0.1"
{needed}"""


def derived_board_text(base: str, prefix: str = "") -> str:
    """A board that takes everything from another one, but for a compiler's `prefix`."""
    compiler = f"\n[toolchain]\nprefix = {_quoted(prefix)}    # the names of the cross compiler begin so\n" if prefix else ""
    return f"""\
# Everything that is not said here is as on `{base}`: yarrik show {base}
summary = "Our board, made from {base}"
extends = {_quoted(base)}
{compiler}
# [kernel]
# arguments = ["quiet"]           # added to the kernel's command line
# device-tree = "board.dts"       # beside this file
# overlays = ["sensor.dtso"]      # beside this file; applied by the build

# [[disk.partition]]              # tables with a `name` are merged with those of `{base}`; to add one, say so
# name = "data"
# add = true
# filesystem = "ext4"
# size = "64 MiB"
"""


def board_text(name: str, arch: str, kernel: str, console: str, prefix: str = "") -> str:
    """A board that stands for itself."""
    compiler = (
        f"prefix = {_quoted(prefix)}"
        if prefix
        else '# prefix = "aarch64-linux-gnu-"   # without it, this machine\'s own compiler'
    )
    return f"""\
summary = {_quoted(f"The board {name}")}
arch = {_quoted(arch)}                  # arm64, arm, riscv64, x86-64, or `host` for this machine's own

[toolchain]
{compiler}

[kernel]
recipe = {_quoted(kernel)}              # a recipe that installs a kernel into /boot
console = {_quoted(console)}    # the serial port, as the kernel names it, and its speed
# device-tree = "{name}.dts"      # beside this file
# arguments = ["quiet"]           # added to the kernel's command line

[boot]
method = "menu"                   # how the bootloader finds the kernel; yarrik schema board lists the others

[[disk]]
name = "card"
table = "gpt"                     # gpt, mbr, hybrid or none

[[disk.partition]]
name = "boot"                     # kernel, device tree and boot menu
filesystem = "fat"
size = "fit + 50%"                # as large as the content, and half as much more
holds = "boot"

[[disk.partition]]
name = "root"
filesystem = "ext4"
size = "fit + 20%"
holds = "root"
"""


def with_hardware(text: str, name: str, hardware: Hardware) -> str:
    """A board's text with what was read of its hardware."""
    lines = []
    if hardware.console:
        text = re.sub(r'(?m)^console = "[^"]*" .*$', f"console = {_quoted(hardware.console)}    # from {{}}", text, count=1)
        where = next((one.where for one in hardware.rows if one.what == "console"), "")
        text = text.replace("# from {}", f"# as {where} has it")
    if hardware.device_tree:
        lines.append(f"device-tree = {_quoted(hardware.device_tree)}")
    if hardware.base_file:
        lines.append(f"base-file = {_quoted(hardware.base_file)}")
    if any(one.settable for one in hardware.drivers):
        lines.append(f"fragments = [{_quoted(f'{name}.kcfg')}]           # drivers of the devices in the tree")
    text = re.sub(r"(?m)^# device-tree = .*$", "\n".join(lines) or "# device-tree = ", text, count=1)
    if hardware.memory and not hardware.device_tree:
        start, size = hardware.memory[0]
        text = text.replace("[[disk]]", f'[memory]\nbase = "{start:#x}"\nsize = "{size >> 20} MiB"\n\n[[disk]]', 1)
    return text


def image_text(packages: Iterable[str]) -> str:
    """An image that stands for itself."""
    return f"""\
summary = "What goes onto the board"
packages = {_list(packages)}      # with all that they need; yarrik find WORD looks for more

[root]
login = "open"                    # no password on the console; `locked` lets nobody in, `password` takes a hash
shell = "/bin/sh"
{_IMAGE_MORE}"""


_IMAGE_MORE = """
# hostname = "gauge"              # without it, the board's name (write it above the first [table])

# [[user]]
# name = "meter"
# id = 100
# home = "/var/lib/meter"

# [[file]]
# path = "/etc/place"
# content = "Gull Rock pier\\n"    # or `from = "place.txt"`, a file beside this one
# owner = "meter"

# [[folder]]
# path = "/var/log/meter"
# owner = "meter"
# mode = "0750"
"""


def derived_image_text(base: str) -> str:
    """An image that begins with all that another one has."""
    return f"""\
# Everything that is not said here is as in `{base}`: yarrik show {base}
summary = "Our image, made from {base}"
extends = {_quoted(base)}
# packages.add = ["hello"]        # beside those of `{base}`; `.remove` takes some out
{_IMAGE_MORE}"""


def profile_text(init: str) -> str:
    """A profile that stands for itself."""
    return f"""\
summary = "How everything is built"
c-library = "libc"
init = {_quoted(init)}                  # the package with the first program
init-path = "/sbin/init"
c-flags = ["-O2", "-Wall"]
link-flags = []
strip = true                      # no debug symbols on the board
clock = 2026-01-01T00:00:00Z      # the time that everything built carries, so that builds are the same
"""


def derived_profile_text(base: str) -> str:
    """A profile that changes some of another one."""
    return f"""\
# Everything that is not said here is as in `{base}`: yarrik show {base}
summary = "Our profile, made from {base}"
extends = {_quoted(base)}
# c-flags.add = ["-g"]
# strip = false
"""


def product_text(board: str, profile: str, image: str) -> str:
    """A product: one board, one profile, one image."""
    return f"""\
summary = {_quoted(f"The image {image} on {board}")}
board = {_quoted(board)}
profile = {_quoted(profile)}
image = {_quoted(image)}
# variants = ["debug"]            # sets of changes, in order; `yarrik build --with debug` adds one for a build

# [options.NAME]                  # options of a recipe
# svg = true

# [versions]
# NAME = "== 1.2"                 # a version that must be, beside what others ask for
"""


def variant_text() -> str:
    """A variant without an effect, with examples."""
    return """\
summary = "A set of changes: yarrik build --with NAME, or `variants` in a product"

# [set.image]
# packages.add = ["hello"]

# [set.profile]
# strip = false

# [options.NAME]
# svg = true
"""


def recipe_text(name: str) -> str:
    """A recipe of a small program that is beside it, in `src`."""
    return f"""\
summary = {_quoted(f"The program {name}")}
version = "0.1"
licence = "MIT"                   # an SPDX expression; `LicenseRef-NAME` for a text of your own

[[source]]
path = "src"                      # a folder beside this file. Others: `url` with `sha256`, `git` with `commit`, `host-file`

[build]
using = "make"                    # make, autotools, cmake, meson, python, plain, kernel, …: yarrik schema recipe
# needs = ["libtide"]             # recipes whose headers and libraries the build uses
# tools = ["tablegen"]            # recipes whose programs run during the build, on this machine
# programs = ["bison"]            # programs of this machine that the build runs

# A step's commands find: CC, CFLAGS and their like for the board, DESTDIR to install into, the sources as current folder.

[package.{name}]
files = ["/usr/bin/{name}"]       # what of the installed goes into this package; patterns like /usr/share/**
# needs = ["shell"]               # packages that have to be on the board too; libraries are found by themselves
"""


def makefile_text(name: str) -> str:
    """The Makefile of such a program."""
    return f"""\
CC ?= cc
CFLAGS ?= -O2

all: {name}

{name}: {name}.c
\t$(CC) $(CFLAGS) $(LDFLAGS) -o $@ {name}.c

install: all
\tinstall -d $(DESTDIR)/usr/bin
\tinstall -m 755 {name} $(DESTDIR)/usr/bin/{name}

.PHONY: all install
"""


def program_text(name: str) -> str:
    """Its C source."""
    return f"""\
#include <stdio.h>

int main(void)
{{
    puts({_quoted(f"{name} runs")});
    return 0;
}}
"""
