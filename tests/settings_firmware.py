"""A small simulated firmware: reads a settings file from a card's first FAT partition as such firmware does, with other people's
tools alone, and can start the emulator with what it found. `python -m tests.settings_firmware IMAGE` does so."""

import json
import re
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path

SECTOR = 512


class FirmwareHalt(Exception):
    """What the firmware's lamp would blink for."""


@dataclass
class Loaded:
    kernel: Path
    line: str
    device_tree: Path | None
    initramfs: Path | None
    is_64: bool


def _run(*words: str | Path, code: int | None = 0) -> str:
    done = subprocess.run(list(map(str, words)), capture_output=True, text=True, check=False)
    if code is not None and done.returncode != code:
        raise FirmwareHalt(f"{words[0]}: {done.stderr.strip()}")
    return done.stdout


class Card:
    def __init__(self, image: Path, folder: Path) -> None:
        table = json.loads(_run("sfdisk", "--json", image))["partitiontable"]
        self.drive = f"{image}@@{table['partitions'][0]['start'] * SECTOR}"
        self.folder = folder

    def take(self, path: str) -> Path:
        if not path.strip("/"):
            raise FirmwareHalt("no file is named")
        target = self.folder / path.strip("/").replace("/", "_")
        _run("mcopy", "-n", "-o", "-i", self.drive, f"::/{path.strip('/')}", target)
        return target


def _settings(text: str) -> tuple[dict[str, str], list[str]]:
    values: dict[str, str] = {}
    overlays: list[str] = []
    holds = True
    for line in text.splitlines():
        line = line.split("#")[0].strip()
        if line.startswith("["):
            holds = line == "[all]"
        elif holds and line.startswith("initramfs "):
            values["initramfs"] = line.split()[1]
        elif holds and line.startswith("dtoverlay="):
            overlays.append(line.partition("=")[2])
        elif holds and "=" in line:
            key, _, value = line.partition("=")
            values[key.strip()] = value.strip()
    return values, overlays


def _nodes(blob: Path, path: str = "/") -> list[str]:
    found = [path]
    for name in _run("fdtget", "-l", blob, path).split():
        found += _nodes(blob, f"{path.rstrip('/')}/{name}")
    return found


def _set_parameter(blob: Path, name: str, value: str) -> None:
    """Firmware leaves a parameter that it does not know out; here that is a halt, so that tests see it."""
    raw = bytes(int(word, 16) for word in _run("fdtget", "-t", "bx", blob, "/__overrides__", name).split())
    phandle, text = int.from_bytes(raw[:4], "big"), raw[4:].split(b"\0")[0].decode()
    match = re.fullmatch(r"([\w,-]+):(\d+)", text)
    if match is None:
        raise FirmwareHalt(f"the declaration {text} of {name}")
    for path in _nodes(blob):
        if _run("fdtget", "-t", "u", "-d", "0", blob, path, "phandle").strip() == str(phandle):
            cells = _run("fdtget", "-t", "u", "-d", "", blob, path, match[1]).split()
            at = int(match[2]) // 4
            cells += ["0"] * (at + 1 - len(cells))
            cells[at] = str(int(value, 0))
            _run("fdtput", "-t", "u", blob, path, match[1], *cells)
            return
    raise FirmwareHalt(f"no node has the phandle {phandle} of {name}")


def load(image: Path, folder: Path) -> Loaded:
    """What the firmware would hand to the processor. Raises FirmwareHalt."""
    card = Card(image, folder)
    values, overlays = _settings(card.take("config.txt").read_text())
    if "kernel" not in values:
        raise FirmwareHalt("no kernel is named")
    kernel = card.take(values["kernel"])
    is_64 = values.get("arm_64bit", "1") != "0"
    if is_64 != (kernel.read_bytes()[56:60] == b"ARM\x64"):
        raise FirmwareHalt("the kernel is of the other width")
    line = card.take(values.get("cmdline", "cmdline.txt")).read_text().splitlines()[0]
    tree = card.take(values["device_tree"]) if "device_tree" in values else None
    for text in overlays:
        name, *parameters = text.split(",")
        overlay = card.take(f"overlays/{name}.dtbo")
        for one in parameters:
            _set_parameter(overlay, *one.split("=", 1))
        if tree is None:
            raise FirmwareHalt("an overlay without a device tree")
        merged = folder / "merged.dtb"
        _run("fdtoverlay", "-i", tree, "-o", merged, overlay)
        tree = merged.rename(folder / f"after-{name}.dtb")
    initramfs = card.take(values["initramfs"]) if "initramfs" in values else None
    return Loaded(kernel, line, tree, initramfs, is_64)


def command(loaded: Loaded, image: Path) -> list[str]:
    """The emulator's command line for what was loaded."""
    words = ["qemu-system-aarch64", "-M", "virt", "-cpu", "cortex-a53", "-m", "256", "-nic", "none", "-display", "none",
             "-monitor", "none", "-serial", "stdio", "-kernel", str(loaded.kernel), "-append", loaded.line]  # fmt: skip
    if loaded.device_tree is not None:
        words += ["-dtb", str(loaded.device_tree)]
    if loaded.initramfs is not None:
        words += ["-initrd", str(loaded.initramfs)]
    return [*words, "-drive", f"file={image},format=raw,if=none,id=card", "-device", "virtio-blk-device,drive=card"]


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as temporary:
        sys.exit(subprocess.run(command(load(Path(sys.argv[1]), Path(temporary)), Path(sys.argv[1])), check=False).returncode)
