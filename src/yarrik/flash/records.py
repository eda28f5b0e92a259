"""What was written to which device: how far an attempt came, so that the next one goes on, and a record for each device that is
done."""

from __future__ import annotations

import contextlib
import hashlib
import re
from collections.abc import Sequence
from pathlib import Path

import msgspec

from yarrik.atomic import write_file
from yarrik.beneath import regular_file
from yarrik.errors import Trouble
from yarrik.flash.devices import Device
from yarrik.flash.source import Source
from yarrik.flash.writing import Written


class _Reached(msgspec.Struct, frozen=True):
    image: str
    parts: int


class Attempts(msgspec.Struct, frozen=True):
    """How far earlier attempts came, in a folder of files by device."""

    folder: Path

    def reached(self, device: Device, source: Source) -> int:
        """How many parts of this very image have reached this very device; 0 without a serial number to know it by."""
        file = self._file(device)
        if file is None:
            return 0
        try:
            found = msgspec.json.decode(regular_file(file), type=_Reached)
        except (OSError, msgspec.DecodeError, UnicodeDecodeError):
            return 0
        return found.parts if found.image == source.name and 0 <= found.parts <= len(source.parts) else 0

    def reach(self, device: Device, source: Source, parts: int) -> None:
        """Keeps how far it came; where that cannot be written, the next attempt begins anew."""
        if (file := self._file(device)) is not None:
            with contextlib.suppress(OSError):
                file.parent.mkdir(parents=True, exist_ok=True)
                write_file(file, msgspec.json.encode(_Reached(source.name, parts)))

    def end(self, device: Device) -> None:
        """Nothing is left to go on with."""
        if (file := self._file(device)) is not None:
            with contextlib.suppress(OSError):
                file.unlink()

    def _file(self, device: Device) -> Path | None:
        if not device.serial:
            return None
        known = repr((device.vendor, device.model, device.serial, device.size))
        return self.folder / f"{hashlib.sha256(known.encode()).hexdigest()[:24]}.json"


class Report(msgspec.Struct, frozen=True):
    """How it went with one device: what was `written`, or the `troubles`. `begun_at` is the share that an earlier attempt had
    written."""

    device: Device
    source: Source
    written: Written | None
    troubles: tuple[Trouble, ...] = ()
    begun_at: float = 0.0
    stopped: bool = False

    @property
    def done(self) -> bool:
        """Whether the device holds the image, as it was read back; of a board that cannot be read, as its bootloader says."""
        return self.written is not None and not self.troubles

    def as_json(self) -> dict[str, object]:
        """The report as values for JSON: sizes in bytes, times in seconds."""
        device, written = self.device, self.written
        return {
            "device": str(device), "vendor": device.vendor, "model": device.model, "serial": device.serial,
            "bytes": device.size, "done": self.done, "image": self.source.path.name, "sha256": self.source.digest,
            "values": dict(self.source.values), "compared-with": self.source.held,
            "signed-by": None if self.source.signer is None else self.source.signer.fingerprint,
            "written": written.bytes if written else 0,
            "write-seconds": round(written.write_seconds, 2) if written else None,
            "read-back-seconds": round(written.read_seconds, 2) if written else None,
            "read-back": written.read_back if written else None,
            "table-read-again": written.table_read_again if written else None,
            "troubles": [one.as_json() for one in self.troubles],
        }  # fmt: skip


def write_log(folder: Path, report: Report) -> Path:
    """Adds a line of JSON to the log of a device, which has its serial number for a name. Raises OSError."""
    name = re.sub(r"[^A-Za-z0-9._-]", "_", report.device.serial or report.device.name).lstrip(".") or "unknown"
    folder.mkdir(parents=True, exist_ok=True)
    file = folder / f"{name}.jsonl"
    with file.open("ab") as sink:
        sink.write(msgspec.json.encode(report.as_json()) + b"\n")
    return file


def all_done(reports: Sequence[Report]) -> bool:
    """Whether each device holds the image."""
    return bool(reports) and all(one.done for one in reports)
