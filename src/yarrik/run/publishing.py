"""Puts what was built into `out/PRODUCT`, whole files only, with checksums and a record of the build."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import msgspec

from yarrik import __version__
from yarrik.atomic import new_file, write_file
from yarrik.cache import MissingObject, file_digest
from yarrik.disk import BESIDE, image_name
from yarrik.locks import held
from yarrik.manifest import SIGNATURE_FILE, checksum_list
from yarrik.moving import copy_sparse
from yarrik.run.results import Logs

if TYPE_CHECKING:
    from yarrik.run.kept_plan import Finished
    from yarrik.run.project import Project
    from yarrik.run.results import StepRow

#: The files of `out/` that say how the build went, and that have the logs of all steps.
BUILD_RECORD, STEPS_LOG = "build.json", "steps.log"
#: Steps whose outputs go into `out/`, by the beginnings of their names.
_PUBLISHED = ("boot ", "write ", "check ", "describe ")


#: A file's size in bytes, the time of its content in nanoseconds, and its inode.
Mark = tuple[int, int, int]
#: What was published: the digest of each file, and its mark then (none where it was gone again).
_Marks = dict[str, tuple[str, Mark | None]]


class Published(NamedTuple):
    """What is in `out/` now: whether that changed, where the logs of steps are in `steps.log` if it was written, and the files
    with their marks (none where one was gone again)."""

    changed: bool
    logs: Logs
    files: Mapping[Path, Mark | None]


class Publisher(msgspec.Struct):
    """Publishes the products of a project."""

    project: Project

    def publish(self, finished: Finished, rows: list[StepRow], ran: bool, logs: Logs | None = None) -> Published:
        """Brings `out/<product>` to what was built. Of steps that ran before, `logs` says where their logs were. Rows get the
        seconds that they lack. Raises MissingObject when what was built is damaged in the cache, YarrikError for links."""
        product, disks = finished.product, finished.disks
        out = self.project.out(product)
        published = [row.outputs for row in rows if row.step.startswith(_PUBLISHED)]
        outputs = {name: digest for one in published for name, digest in one.items()}
        files = {image_name(product, disk, len(disks)): outputs[f"disk:{disk}"] for disk in disks}
        for output, digest in outputs.items():
            if output.startswith("beside:"):
                _, disk, kind = output.split(":")
                files[image_name(product, disk, len(disks)) + BESIDE[kind]] = digest
            elif output.startswith("file:"):
                files[output.removeprefix("file:")] = digest
            elif output.startswith("memory:"):
                files[f"memory/{output.removeprefix('memory:')}"] = digest
        files |= {name: outputs[name] for name in ("packages.json", "files.json", "boot-story.txt")}
        files |= {f"licences/{entry.path}": entry.content for entry in self.project.store.tree(outputs["licences"]).files}
        if "control" in outputs:
            files["control.dtb"] = outputs["control"]
        if finished.environment:
            files[finished.environment] = outputs["environment"]
        if finished.beside:
            made = {row.step: row.outputs for row in rows}
            files |= {path: made[step][output] for path, (step, output) in finished.beside.items()}
        if "device-tree" in outputs:
            files[finished.device_tree] = outputs["device-tree"]
        fact = f"published {product}"
        known = self.project.memory.fact(fact)
        marks: _Marks = msgspec.json.decode(known, type=_Marks) if known else {}
        wanted = {**files, "SHA256SUMS": self.project.store.put_bytes(checksum_list(files))}
        stale = [name for name, digest in wanted.items() if marks.get(name) != (digest, _mark(out / name))]
        records = [name for name in (BUILD_RECORD, STEPS_LOG) if not (out / name).exists()]
        gone = marks.keys() - wanted.keys()
        if not stale and not ran and not records and not gone:
            return Published(False, [], self._left(out, marks))
        self.project.refuse_links_to(product, [*stale, *gone])
        out.mkdir(parents=True, exist_ok=True)
        self.project.prepare_folder()
        with held(self.project.folder / f"publishing-{product}.lock"):
            if "SHA256SUMS" in stale:
                (out / SIGNATURE_FILE).unlink(missing_ok=True)  # it is over another one
            for name in stale:
                (out / name).parent.mkdir(parents=True, exist_ok=True)
                with new_file(out / name) as fresh:
                    copy_sparse(self.project.store.checked(wanted[name]), fresh)
                    if not self.project.store.has_just_read(wanted[name]):
                        self._check_copy(fresh, wanted[name])
            for name, (_, mark) in marks.items():
                # What an earlier build put there, and nobody has changed since.
                if name not in wanted and _mark(out / name) == mark:
                    (out / name).unlink(missing_ok=True)
                    _remove_empty((out / name).parent, out)
            now = self._record(finished, rows, out, logs) if ran or records else []
        new_marks = {name: (digest, _mark(out / name)) for name, digest in wanted.items()}
        self.project.memory.learn(fact, msgspec.json.encode(new_marks))
        return Published(True, now, self._left(out, new_marks))

    @staticmethod
    def _left(out: Path, marks: _Marks) -> dict[Path, Mark | None]:
        # Not out of the memory: that may have been lost meanwhile, or take nothing on a full disk.
        own = {out / name: _mark(out / name) for name in (BUILD_RECORD, STEPS_LOG)}
        return {out / name: mark for name, (_, mark) in marks.items()} | own

    def _check_copy(self, copy: Path, digest: str) -> None:
        """What goes out is what was built. Raises MissingObject when the cache was damaged, and takes the damage out of it."""
        if file_digest(copy) != digest:
            copy.unlink()
            self.project.store.take_out(self.project.store.object_path(digest))
            raise MissingObject(digest)

    def _record(self, finished: Finished, rows: list[StepRow], out: Path, former: Logs | None) -> Logs:
        """`build.json` and `steps.log`: how this build went. Unlike all else they differ from one build to the next."""
        store = self.project.store
        before = (out / STEPS_LOG).read_bytes() if former else b""
        parts: list[bytes] = []
        at, end, line_end = Logs(), 0, ""
        # There is a row for each step of the product, of which most are kept: each of these has to cost little.
        for row, known in zip(rows, former or [None] * len(rows), strict=True):
            if known is not None and row.seconds >= 0:
                begin, size = known
                text = before[begin : begin + size] if size else b""
            else:
                result = store.record(row.fingerprint)
                row.seconds = round(result.seconds, 3) if row.seconds < 0 and result is not None else max(row.seconds, 0.0)
                text = b""
                if result is not None and result.log:
                    with contextlib.suppress(MissingObject):
                        text = store.get_bytes(result.log).decode("utf-8", "replace").encode()
            reason = f" ({row.reason})" if row.reason else ""
            head = f"{line_end}== {row.step}: {row.how}, {row.seconds:.2f} s{reason}\n".encode()
            line_end = "\n"
            end += len(head)
            at.append((end, len(text)))
            end += len(text)
            parts += (head, text)
        head = msgspec.json.encode({"yarrik": __version__, "toolchains": finished.toolchains})
        # A line for each step; in JSON, an end of line within a text is written as `\n`.
        steps = msgspec.json.Encoder().encode_lines(rows).rstrip(b"\n").replace(b"\n", b",\n ")
        write_file(out / BUILD_RECORD, head[:-1] + b',\n"steps":[\n ' + steps + b"\n]}\n")
        write_file(out / STEPS_LOG, b"".join(parts))
        return at


def _remove_empty(folder: Path, top: Path) -> None:
    """Folders below `top` that have become empty."""
    while folder != top:
        try:
            folder.rmdir()
        except OSError:  # somebody has something there
            return
        folder = folder.parent


def _mark(path: Path) -> Mark | None:
    try:
        status = path.stat()
    except OSError:
        return None
    return status.st_size, status.st_mtime_ns, status.st_ino
