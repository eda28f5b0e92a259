"""Puts what was built into `out/PRODUCT`, whole files only, with checksums and a record of the build."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass
from pathlib import Path

import msgspec
from filelock import FileLock

from yarrik import __version__
from yarrik.atomic import new_file, write_file
from yarrik.cache import MissingObject, file_digest
from yarrik.devicetree import blob_name
from yarrik.disk import BESIDE, image_name
from yarrik.manifest import SIGNATURE_FILE, checksum_list
from yarrik.moving import copy_sparse
from yarrik.run.planning import Planned
from yarrik.run.project import Project
from yarrik.run.results import StepReport


@dataclass
class Publisher:
    """Publishes the products of a project."""

    project: Project

    def publish(self, planned: Planned, reports: list[StepReport], ran: bool) -> bool:
        """Brings `out/<product>` to what was built; True when anything there had to change. Raises MissingObject when what was
        built is damaged in the cache."""
        composition, graph = planned.composition, planned.graph
        out = self.project.out(composition.name)
        outputs = {name: digest for report in reports for name, digest in report.outputs.items()
                   if report.step.kind in ("boot", "write", "check", "describe")}  # fmt: skip
        files = {image_name(composition.name, disk, len(graph.disks)): outputs[f"disk:{disk}"] for disk in graph.disks}
        for output, digest in outputs.items():
            if output.startswith("beside:"):
                _, disk, kind = output.split(":")
                files[image_name(composition.name, disk, len(graph.disks)) + BESIDE[kind]] = digest
            elif output.startswith("file:"):
                files[output.removeprefix("file:")] = digest
            elif output.startswith("memory:"):
                files[f"memory/{output.removeprefix('memory:')}"] = digest
        files |= {name: outputs[name] for name in ("packages.json", "files.json", "boot-story.txt")}
        files |= {f"licences/{entry.path}": entry.content for entry in self.project.store.tree(outputs["licences"]).files}
        if "control" in outputs:
            files["control.dtb"] = outputs["control"]
        environment = composition.board.value.boot.environment
        if environment is not None:
            files[environment.name] = outputs["environment"]
        made = {report.step.name: report.outputs for report in reports}
        files |= {path: made[step][output] for path, (step, output) in graph.beside.items()}
        if "device-tree" in outputs:
            files[blob_name(composition.board.value.kernel.device_tree)] = outputs["device-tree"]
        fact = f"published {composition.name}"
        known = self.project.memory.fact(fact)
        marks: dict[str, tuple[str, str]] = msgspec.json.decode(known, type=dict[str, tuple[str, str]]) if known else {}
        wanted = {**files, "SHA256SUMS": self.project.store.put_bytes(checksum_list(files))}
        stale = [name for name, digest in wanted.items() if marks.get(name) != (digest, _mark(out / name))]
        records = [name for name in ("build.json", "steps.log") if not (out / name).exists()]
        gone = marks.keys() - wanted.keys()
        if not stale and not ran and not records and not gone:
            return False
        out.mkdir(parents=True, exist_ok=True)
        self.project.prepare_folder()
        with FileLock(self.project.folder / f"publishing-{composition.name}.lock"):
            if "SHA256SUMS" in stale:
                (out / SIGNATURE_FILE).unlink(missing_ok=True)  # it is over another one
            for name in stale:
                (out / name).parent.mkdir(parents=True, exist_ok=True)
                with new_file(out / name) as fresh:
                    copy_sparse(self.project.store.checked(wanted[name]), fresh)
                    self._check_copy(fresh, wanted[name])
            for name, (_, mark) in marks.items():
                # What an earlier build put there, and nobody has changed since.
                if name not in wanted and _mark(out / name) == mark:
                    (out / name).unlink(missing_ok=True)
                    _remove_empty((out / name).parent, out)
            if ran or records:
                self._record(planned, reports, out)
        new_marks = {name: (digest, _mark(out / name)) for name, digest in wanted.items()}
        self.project.memory.learn(fact, msgspec.json.encode(new_marks))
        return True

    def files_of(self, product: str) -> tuple[Path, ...]:
        """The files of a product in `out/`, as it was published last."""
        known = self.project.memory.fact(f"published {product}")
        names = msgspec.json.decode(known, type=dict[str, tuple[str, str]]) if known else {}
        return tuple(self.project.out(product) / name for name in (*names, "build.json", "steps.log"))

    def _check_copy(self, copy: Path, digest: str) -> None:
        """What goes out is what was built. Raises MissingObject when the cache was damaged, and takes the damage out of it."""
        if file_digest(copy) != digest:
            copy.unlink()
            self.project.store.take_out(self.project.store.object_path(digest))
            raise MissingObject(digest)

    def _record(self, planned: Planned, reports: list[StepReport], out: Path) -> None:
        """`build.json` and `steps.log`: how this build went. Unlike all else they differ from one build to the next."""
        rows = []
        log: list[str] = []
        for report in reports:
            result = self.project.store.record(report.fingerprint)
            seconds = report.seconds if report.how == "ran" else result.seconds if result is not None else 0.0
            rows.append(
                {
                    "step": report.step.name,
                    "how": report.how,
                    "reason": report.reason,
                    "seconds": round(seconds, 3),
                    "fingerprint": report.fingerprint,
                    "outputs": dict(report.outputs),
                    "notes": [note.text for note in report.notes],
                }
            )
            head = f"== {report.step.name}: {report.how}, {seconds:.2f} s" + (f" ({report.reason})" if report.reason else "")
            text = ""
            if result is not None and result.log:
                with contextlib.suppress(MissingObject):
                    text = self.project.store.get_bytes(result.log).decode("utf-8", "replace")
            log.append(head + "\n" + text)
        toolchains = {side: toolchain.shown for side, toolchain in sorted(planned.surroundings.toolchains.items())}
        document = {"yarrik": __version__, "toolchains": toolchains, "steps": rows}
        write_file(out / "build.json", msgspec.json.format(msgspec.json.encode(document), indent=1) + b"\n")
        write_file(out / "steps.log", "\n".join(log).encode())


def _remove_empty(folder: Path, top: Path) -> None:
    """Folders below `top` that have become empty."""
    while folder != top:
        try:
            folder.rmdir()
        except OSError:  # somebody has something there
            return
        folder = folder.parent


def _mark(path: Path) -> str:
    try:
        status = path.stat()
    except OSError:
        return "missing"
    return f"{status.st_size} {status.st_mtime_ns} {status.st_ino}"
