"""Files `/etc/services/NAME.service` of the small init that comes with every new workspace: lines KEY = VALUE."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from yarrik.services.form import ServiceForm, service_file

if TYPE_CHECKING:
    from yarrik.rootfs import OwnPath
    from yarrik.services.settle import OneService

#: What the init has room for (`services.c`).
_MOST_SERVICES, _MOST_WORDS, _MOST_NAMES, _MOST_VARIABLES, _LONGEST_LINE = 64, 32, 16, 32, 1000


def _write(services: Sequence[OneService]) -> list[OwnPath]:
    return [
        service_file(f"/etc/services/{one.name}.service", "".join(f"{line}\n" for line in _lines(one)), one) for one in services
    ]


def _lines(one: OneService) -> Iterator[str]:
    if one.summary:
        yield f"# {one.summary}"
    yield f"run = {one.program}"
    for argument in one.arguments:
        yield f"argument = {argument}"
    for key, text in (("user", one.user), ("group", one.group), ("folder", one.folder), ("ready-file", one.ready_file),
                      ("variables", one.environment_file),
                      ("listen", one.listen), ("after", " ".join(one.after)), ("needs", " ".join(one.needs))):  # fmt: skip
        if text:
            yield f"{key} = {text}"
    for name, value in one.environment:
        yield f"variable = {name}={value}"
    if one.restart != "never":
        yield f"restart = {one.restart}"
    for key, yes in (("once", one.once), ("no-new-privileges", one.confined)):
        if yes:
            yield f"{key} = yes"
    if one.log == "ring":
        yield "log = ring"
    for key, number in (
        ("delay-ms", one.restart_delay), ("delay-most-ms", one.restart_most), ("stop-ms", one.stop_after),
        ("every-ms", one.every), ("open-files", one.open_files), ("processes", one.processes), ("memory", one.memory),
    ):  # fmt: skip
        if number:
            yield f"{key} = {number}"


def _lacks(one: OneService) -> list[str]:
    found = []
    if one.confined and one.writes:
        found.append("confines what a service may write to (`writes`)")
    if len(one.arguments) >= _MOST_WORDS:
        found.append(f"has room for {_MOST_WORDS - 1} arguments")
    if max(len(one.after), len(one.needs)) > _MOST_NAMES or len(one.environment) > _MOST_VARIABLES:
        found.append(f"has room for {_MOST_NAMES} names in `after` and `needs`, and {_MOST_VARIABLES} variables")
    if any(len(line.encode()) > _LONGEST_LINE for line in _lines(one)):
        found.append(f"reads lines of {_LONGEST_LINE} bytes")
    if any(text != text.strip() or not text for text in one.arguments):
        found.append("keeps blanks at the ends of arguments, and empty ones")
    return found


FORM = ServiceForm("plain", _write, _lacks)
