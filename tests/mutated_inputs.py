"""Damaged inputs that are no images, by the thousand: programs, kernel modules, boot files, cache records, definitions, patches.

`python -m tests.mutated_inputs COUNT [FORM…]` runs COUNT of each, as `tests.mutations` does with images: no traceback, nothing over
five seconds, nothing that takes much memory."""

from __future__ import annotations

import contextlib
import hashlib
import os
import random
import resource
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import NoReturn

from yarrik.beneath import Folder
from yarrik.boot.entries import read_entry, read_loader
from yarrik.boot.environment import decode_environment, encode_environment
from yarrik.boot.fit import Fit, FitConfiguration, FitImage, decode_fit, encode_fit
from yarrik.boot.kernel_image import kernel_facts
from yarrik.boot.legacy import LegacyImage, decode_legacy, encode_legacy
from yarrik.boot.menu import read_menu
from yarrik.boot.settings import change_settings, read_settings
from yarrik.cache import Entry, Result, Store, Tree
from yarrik.cache.store import read_result
from yarrik.demo import lay_out_demo
from yarrik.devicetree import as_source, decode_blob, encode_blob
from yarrik.devicetree.overlay import apply_overlay
from yarrik.devicetree.source import compile_and_check, compile_source
from yarrik.disk.block_map import read_map
from yarrik.elf import elf_facts, sections
from yarrik.errors import YarrikError
from yarrik.model import Overrides, compose, load_workspace
from yarrik.resolve import read_lock, resolve
from yarrik.rootfs.modules import ModuleDamaged, module_indexes
from yarrik.run.kernel_config import lost_options, options
from yarrik.sources import misfits, unpack_archive

SECONDS, MEBIBYTES = 5, 500
DEMO = Path(__file__).parent.parent / "src/yarrik/demo/data"
Read = Callable[[bytes], object]
OVERLAY = '/dts-v1/;\n/plugin/;\n&gauge { status = "okay"; port { label = "x"; }; };\n&{/chosen} { bootargs = "y"; };\n'


def _program(top: Path) -> tuple[bytes, Read]:
    (top / "x.c").write_text(
        '#include <math.h>\n#include <stdio.h>\nint main(int n, char **v) { printf("%f", sin(n)); return 0; }\n'
    )
    subprocess.run(["gcc", "-Wl,-rpath,$ORIGIN/lib", "-o", top / "x", top / "x.c", "-lm"], check=True)

    def read(data: bytes) -> object:
        (top / "mutant").write_bytes(data)
        with (top / "mutant").open("rb") as file:
            return elf_facts(file), list(sections(file))

    return (top / "x").read_bytes(), read


def _module(top: Path) -> tuple[bytes, Read]:
    text = 'const char info[] __attribute__((section(".modinfo"))) = "name=x\\0depends=a,b\\0alias=of:Tgauge\\0";\n'
    (top / "x.c").write_text(text)
    subprocess.run(["gcc", "-c", "-o", top / "x.ko", top / "x.c"], check=True)
    return (top / "x.ko").read_bytes(), lambda data: module_indexes(["x.ko"], lambda name: data)


def _legacy(top: Path) -> tuple[bytes, Read]:
    data = encode_legacy(LegacyImage("several", "arm", (b"echo harbour\n" * 9, b"more"), "two parts"))

    def mended(data: bytes) -> bytes:
        found = bytearray(data)
        found[12:16] = max(0, len(found) - 64).to_bytes(4, "big")
        found[24:28] = zlib.crc32(found[64:]).to_bytes(4, "big")
        found[4:8] = bytes(4)
        found[4:8] = zlib.crc32(found[:64]).to_bytes(4, "big")
        return bytes(found)

    return data, _also_mended(decode_legacy, mended)


def _also_mended(read: Read, mend: Callable[[bytes], bytes]) -> Read:
    """Reads the input as it is, and with the checksums mended that would end it at once."""

    def both(data: bytes) -> object:
        with contextlib.suppress(ValueError):
            read(data)
        return read(mend(data))

    return both


def _environment(top: Path) -> tuple[bytes, Read]:
    def mended(data: bytes) -> bytes:
        return zlib.crc32(data[4:]).to_bytes(4, "little") + data[4:]

    return encode_environment({"bootcmd": "run x", "y": "z"}, 4096), _also_mended(decode_environment, mended)


def _fit(top: Path) -> tuple[bytes, Read]:
    images = (
        FitImage("kernel", "kernel", b"k" * 500, "arm64", "a kernel"),
        FitImage("tree", "device-tree", b"t" * 90, "arm64"),
    )
    return encode_fit(Fit("x", images, (FitConfiguration("one", "kernel", ("tree",)),), "one")), decode_fit


def _blob(top: Path) -> tuple[bytes, Read]:
    blob = encode_blob(compile_source(DEMO / "shelves/harbour/boards/kittiwake.dts", symbols=True))
    overlay = compile_source(_written(top / "o.dtso", OVERLAY), symbols=True)

    def read(data: bytes) -> object:
        tree = decode_blob(data)
        with contextlib.suppress(YarrikError):
            apply_overlay(tree, overlay, "o")
        return as_source(tree), encode_blob(tree)

    return blob, read


def _source(name: str) -> Callable[[Path], tuple[bytes, Read]]:
    def make(top: Path) -> tuple[bytes, Read]:
        shutil.copytree(DEMO / "shelves/harbour/boards", top, dirs_exist_ok=True)
        text = (top / name).read_bytes()

        def read(data: bytes) -> object:
            (top / name).write_bytes(data)
            return encode_blob(compile_and_check(top / name)[0])

        return text, read

    return make


def _record(top: Path) -> tuple[bytes, Read]:
    store = Store(top / "store")
    store.put_result("f" * 64, Result({"file": store.put_bytes(b"x")}, ("a note",), "", 1.5))
    (file,) = (path for path in (top / "store/results").rglob("*") if path.is_file())
    data = file.read_bytes()

    def read(data: bytes) -> object:
        (top / "mutant").write_bytes(data)
        return read_result(top / "mutant", "f" * 64)

    def mended(data: bytes) -> bytes:
        body = data.rpartition(b"\n")[0]
        return body + b"\n" + hashlib.sha256(b"f" * 64 + b"\n" + body).hexdigest().encode()

    return data, _also_mended(read, mended)


def _tree(top: Path) -> tuple[bytes, Read]:
    entries = [
        Entry("usr", "folder", 0o755, 0, ""),
        Entry("usr/x", "file", 0o644, 5, "a" * 64),
        Entry("usr/y", "link", 0o777, 1, "x"),
    ]
    return Tree.of(entries).encoded, Tree.decode


def _workspace(file: str) -> Callable[[Path], tuple[bytes, Read]]:
    """A file of the demo's workspace: what comes of it must be an answer, or one of our errors."""

    def make(top: Path) -> tuple[bytes, Read]:
        root = top / "w"
        lay_out_demo(root)
        if file == "yarrik.lock":
            subprocess.run([sys.executable, "-m", "yarrik", "resolve", "tide-gauge", "--workspace", root], check=True, capture_output=True,
                           env={**os.environ, "YARRIK_CACHE": str(top / "cache")})  # fmt: skip

        def read(data: bytes) -> object:
            (root / file).write_bytes(data)
            lock = read_lock(root)
            locked = lock.products.get("tide-gauge")
            composition = compose(load_workspace(root), "tide-gauge", Overrides())
            return resolve(composition, *([locked.preferences(())[0]] if locked is not None else []))

        return (root / file).read_bytes(), read

    return make


def _patch(top: Path) -> tuple[bytes, Read]:
    lines = [f"line {number}\n" for number in range(60)]
    for name, changed in (("old", lines), ("new", [*lines[:5], "more\n", *lines[6:40], *lines[45:]])):
        (top / name).mkdir()
        (top / name / "x.c").write_text("".join(changed))
    text = subprocess.run(["diff", "-u", "a/x.c", "b/x.c"], cwd=_linked(top), capture_output=True, check=False).stdout
    folder = Folder.at(top / "new")
    return text, lambda data: misfits(data.decode("utf-8", "replace"), folder)


def _linked(top: Path) -> Path:
    (top / "a").symlink_to("old")
    (top / "b").symlink_to("new")
    return top


def _config(top: Path) -> tuple[bytes, Read]:
    (top / "source").mkdir()
    (top / "source/Kconfig").write_text(
        'config A\n\tbool "a"\n\tdepends on B\n\tselect C\nconfig B\n\tbool "b"\nconfig C\n\tbool\n' * 5
    )
    folder = Folder.at(top / "source")

    def read(data: bytes) -> object:
        text = data.decode("utf-8", "replace")
        return list(lost_options("CONFIG_A=y\nCONFIG_C=y\n", Path("x"), text, folder)), options(text)

    return b'CONFIG_A=y\n# CONFIG_B is not set\nCONFIG_C=m\nCONFIG_TEXT="x y"\n' * 5, read


def _kconfig(top: Path) -> tuple[bytes, Read]:
    text = (
        'menu "Gauges"\n\tdepends on (A || !B) && C = y\nsource "sub/Kconfig"\nif $(cc-option,-mfloat) && D > 0x10\n'
        'menuconfig E\n\ttristate "E" if !F\n\tselect G if H\n\thelp\n\t  Words.\n\nendif\nendmenu\n'
    )

    def read(data: bytes) -> object:
        (top / "Kconfig").write_bytes(data)
        with Folder.at(top) as folder:
            return list(lost_options("CONFIG_E=y\nCONFIG_G=n\n", Path("x"), "CONFIG_B=y\nCONFIG_G=y\n", folder))

    return text.encode() * 5, read


def _archive(kind: str) -> Callable[[Path], tuple[bytes, Read]]:
    def make(top: Path) -> tuple[bytes, Read]:
        source = top / "source"
        (source / "deep/er").mkdir(parents=True)
        for number in range(9):
            (source / f"deep/er/file {number}").write_bytes(b"x" * number * 300)
        (source / "link").symlink_to("deep")
        name = f"x.{kind}"
        subprocess.run(["tar", "-C", top, "-caf", top / name, "source"] if kind != "zip" else
                       [sys.executable, "-m", "zipfile", "-c", top / name, source], check=True)  # fmt: skip
        store = Store(top / "store")

        def read(data: bytes) -> object:
            (top / f"m.{kind}").write_bytes(data)
            return unpack_archive(top / f"m.{kind}", f"m.{kind}", store)

        return (top / name).read_bytes(), read

    return make


def _written(path: Path, text: str) -> Path:
    path.write_text(text)
    return path


def _text(text: str, read: Callable[[str], object]) -> Callable[[Path], tuple[bytes, Read]]:
    return lambda top: (text.encode(), lambda data: read(data.decode("utf-8", "replace")))


_MENU = "DEFAULT main\nTIMEOUT 30\nLABEL main\n  KERNEL /boot/Image\n  FDT /boot/x.dtb\n  INITRD /boot/i\n  APPEND root=/dev/x quiet\n"
_ENTRY = "title Harbour\nlinux /Image\ninitrd /i\noptions root=x\ndevicetree /x.dtb\n"
_MAP = (
    b'{"image":"x.img","size":8192,"ranges":[{"start":0,"end":4096,"sha256":"'
    + b"a" * 64
    + b'"}],"sha256":"'
    + b"b" * 64
    + b'"}'
)

FORMS: dict[str, Callable[[Path], tuple[bytes, Read]]] = {
    "elf": _program,
    "module": _module,
    "legacy": _legacy,
    "fit": _fit,
    "blob": _blob,
    "device tree source": _source("kittiwake.dts"),
    "environment": _environment,
    "kernel head": lambda top: (bytes(16) + (4096).to_bytes(8, "little") + bytes(32) + b"ARM\x64" + bytes(4036), lambda data: kernel_facts(data, len(data))),
    "menu": _text(_MENU, read_menu),
    "entry": _text(_ENTRY, lambda text: (read_entry(text), read_loader(text))),
    "settings": _text("kernel=Image\n[all]\nx=y\n# z\n", lambda text: (read_settings(text), change_settings(text, {"x": "1", "q": None}))),
    "cache record": _record,
    "cache tree": _tree,
    "lock": _workspace("yarrik.lock"),
    "workspace toml": _workspace("yarrik.toml"),
    "product toml": _workspace("products/tide-gauge.toml"),
    "board toml": _workspace("shelves/harbour/boards/kittiwake.toml"),
    "recipe toml": _workspace("shelves/harbour/recipes/tidelog/recipe.toml"),
    "map": lambda top: (_MAP, lambda data: read_map(data, 8192)),
    "patch": _patch,
    "kernel configuration": _config,
    "Kconfig": _kconfig,
    "source tar": _archive("tar"),
    "source tar.gz": _archive("tar.gz"),
    "source tar.xz": _archive("tar.xz"),
    "source zip": _archive("zip"),
}  # fmt: skip


def _too_long(*_: object) -> NoReturn:
    raise TimeoutError(f"it took longer than {SECONDS} s")


#: Null characters, escapes, and pieces of paths: each means something to one reader or another.
_PIECES = (b"\0", b"\\u0000", b"\x1b[2J", b"../", b"/", b"\n", b'"', b"\xe2\x80\xae", b"9" * 40, b"-1", b"\xed\xb3\xbf")


def mutated(data: bytes, make: random.Random) -> bytes:
    """The data with bytes changed, cut, doubled or moved; now and then with a long run of one of its bytes, or with a piece
    of text that has a meaning to some reader."""
    found = bytearray(data)
    for _ in range(make.choice((1, 1, 2, 4, 12))):
        at = make.randrange(len(found) + 1)
        kind = make.randrange(9)
        if kind < 4 and at < len(found):
            found[at] = make.choice(
                (0, 0xFF, 0x7F, 0x80, 0x2F, 0x3D, 0x22, make.randrange(256), found[at] ^ 1 << make.randrange(8))
            )
        elif kind == 4:
            del found[at : at + make.choice((1, 4, 30, 1000))]
        elif kind == 5:
            piece = found[at : at + make.choice((1, 8, 60))]
            found[at:at] = piece * make.choice((1, 2, 40))
        elif kind == 6 and at < len(found):
            found[at:at] = bytes([found[at]]) * make.choice((3, 200, 6000))
        elif kind == 7:
            found[at:at] = make.choice(_PIECES)
        elif at + 4 <= len(found):
            found[at : at + 4] = make.choice(
                (b"\xff\xff\xff\xff", b"\0\0\0\0", b"\x7f\xff\xff\xff", b"\x80\0\0\0", b"\0\0\0\x01")
            )
    return bytes(found) if make.random() < 0.95 else bytes(found[: make.randrange(len(found) + 1)])


def run(form: str, count: int) -> str:
    """Reads `count` damaged inputs of a form; a sentence on how it went. Raises AssertionError with the first that is amiss."""
    make = random.Random(form)
    refused, slowest, heaviest = 0, 0.0, 0.0
    with tempfile.TemporaryDirectory(prefix="yarrik-inputs-") as folder:
        data, read = FORMS[form](Path(folder))
        read(data)
        signal.signal(signal.SIGALRM, _too_long)
        for number in range(count):
            mutant = mutated(data, make)
            before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
            started = time.perf_counter()
            signal.alarm(SECONDS)
            try:
                read(mutant)
            except (YarrikError, ModuleDamaged):
                refused += 1
            except ValueError as error:
                # Readers of formats refuse with errors of their own; any other is one that nobody thought of.
                if type(error) in (ValueError, UnicodeDecodeError, UnicodeEncodeError) and form not in _PLAIN:
                    raise AssertionError(f"{form}, input {number}: {error!r} for {mutant[:300]!r}") from error
                refused += 1
            except Exception as error:
                raise AssertionError(f"{form}, input {number}: {type(error).__name__}: {error} for {mutant[:300]!r}") from error
            finally:
                signal.alarm(0)
            slowest = max(slowest, time.perf_counter() - started)
            heaviest = max(heaviest, (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    if peak > MEBIBYTES:
        raise AssertionError(f"{form}: {peak:.0f} MiB at the most")
    return (f"{form}: {count} inputs, {refused} refused, the others read; {slowest:.2f} s and {heaviest:.0f} MiB more at the most, "
            f"{peak:.0f} MiB in all")  # fmt: skip


#: Forms whose readers say with a plain ValueError what is wrong.
_PLAIN = ("kernel head", "settings", "menu")


def main() -> None:
    from tests.mutations import run_all

    sys.exit(run_all(run, list(sys.argv[2:] or FORMS), int(sys.argv[1])))


if __name__ == "__main__":
    main()
