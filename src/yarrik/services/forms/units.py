"""Unit files as systemd.unit(5), systemd.service(5), systemd.exec(5), systemd.socket(5) and systemd.timer(5) describe them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from yarrik.services.form import ServiceForm, service_link, unit_file

if TYPE_CHECKING:
    from yarrik.rootfs import OwnPath
    from yarrik.services.settle import OneService

_FOLDER, _TURNED_ON = "/usr/lib/systemd/system", "/etc/systemd/system"

#: What a confined service does not get (systemd.exec(5), "Sandboxing", "Capabilities", "System call filtering").
_CONFINED = (
    "NoNewPrivileges=yes", "ProtectSystem=strict", "ProtectHome=yes", "PrivateTmp=yes", "ProtectClock=yes",
    "ProtectControlGroups=yes", "ProtectKernelLogs=yes", "ProtectKernelModules=yes", "ProtectKernelTunables=yes",
    "RestrictNamespaces=yes", "RestrictRealtime=yes", "RestrictSUIDSGID=yes", "LockPersonality=yes",
    "MemoryDenyWriteExecute=yes", "SystemCallArchitectures=native",
)  # fmt: skip


def _write(services: Sequence[OneService]) -> list[OwnPath]:
    found = []
    for one in services:
        found.append(unit_file(f"{_FOLDER}/{one.name}.service", _text(_unit(one)), one))
        kind, target = "service", "multi-user.target"
        if one.listen:
            kind, target = "socket", "sockets.target"
            found.append(unit_file(f"{_FOLDER}/{one.name}.socket", _text(_socket(one)), one))
        elif one.every:
            kind, target = "timer", "timers.target"
            found.append(unit_file(f"{_FOLDER}/{one.name}.timer", _text(_timer(one)), one))
        unit = f"{one.name}.{kind}"
        found.append(service_link(f"{_TURNED_ON}/{target}.wants/{unit}", f"{_FOLDER}/{unit}", one))
    return found


def _text(lines: Iterator[str]) -> str:
    return "".join(f"{line}\n" for line in lines)


def _unit(one: OneService) -> Iterator[str]:
    yield "[Unit]"
    yield f"Description={_plain(one.summary or one.name)}"
    after = list(dict.fromkeys([*one.needs, *one.after]))
    if after:
        yield f"After={' '.join(f'{name}.service' for name in after)}"
    if one.needs:
        yield f"Requires={' '.join(f'{name}.service' for name in one.needs)}"
    if one.restart != "never":
        yield "StartLimitIntervalSec=0"  # it is started again for ever, as the other forms do
    yield ""
    yield "[Service]"
    yield f"Type={'oneshot' if one.once or one.every else 'exec'}"
    if one.once and one.at_start:
        yield "RemainAfterExit=yes"
    yield f"ExecStart={' '.join(_word(word) for word in (one.program, *one.arguments))}"
    if one.ready_file:
        yield f"ExecStartPre=-/bin/rm -f {_word(one.ready_file)}"
        yield f"ExecStartPost=/bin/sh -c {_word(f'while [ ! -e {one.ready_file} ]; do sleep 1; done')}"
    for key, text in (("User", one.user), ("Group", one.group), ("WorkingDirectory", _plain(one.folder))):
        if text:
            yield f"{key}={text}"
    if one.environment_file:
        yield f"EnvironmentFile=-{_plain(one.environment_file)}"
    for name, value in one.environment:
        yield f"Environment={_word(f'{name}={value}', dollars=False)}"
    if one.restart != "never":
        yield f"Restart={one.restart}"
        yield f"RestartSec={_seconds(one.restart_delay or 1000)}"
    if one.stop_after:
        yield f"TimeoutStopSec={_seconds(one.stop_after)}"
    if one.log == "console":
        yield "StandardOutput=journal+console"
    for key, number in (("LimitNOFILE", one.open_files), ("LimitNPROC", one.processes), ("MemoryMax", one.memory)):
        if number:
            yield f"{key}={number}"
    if one.confined:
        yield from _CONFINED
        if one.writes:
            yield f"ReadWritePaths={' '.join(_word(path) for path in one.writes)}"
        if one.user and one.user != "root":
            yield "CapabilityBoundingSet="


def _socket(one: OneService) -> Iterator[str]:
    yield from ("[Unit]", f"Description={_plain(one.summary or one.name)}", "", "[Socket]")
    form, _, place = one.listen.partition(":")
    yield f"ListenStream={place}"
    if form == "tcp" and not place.startswith("0.0.0.0:"):
        yield "FreeBind=yes"  # the address may come later than the socket


def _timer(one: OneService) -> Iterator[str]:
    yield from ("[Unit]", f"Description={_plain(one.summary or one.name)}", "", "[Timer]")
    yield f"OnActiveSec={_seconds(one.every)}"
    yield f"OnUnitInactiveSec={_seconds(one.every)}"
    yield "AccuracySec=1s"


def _seconds(milliseconds: int) -> str:
    return f"{milliseconds}ms"


def _plain(text: str) -> str:
    """A text in which no specifier is meant (systemd.unit(5), "Specifiers")."""
    return text.replace("%", "%%")


def _word(text: str, dollars: bool = True) -> str:
    """One word of a command line (systemd.service(5), "Command lines"): no specifier, variable or blank counts."""
    text = _plain(text).replace("\\", "\\\\").replace('"', '\\"')
    text = text.replace("$", "$$") if dollars else text
    return f'"{text}"' if not text or any(character in " \t'\";" for character in text) or "\\" in text else text


def _lacks(one: OneService) -> list[str]:
    if one.restart_most and one.restart_most != (one.restart_delay or 1000):
        return ["has growing delays in all its versions (`restart-most`)"]
    if one.log == "ring":
        return ['has rings of files of its own: its journal is one (`log = "ring"`)']
    return []


FORM = ServiceForm("units", _write, _lacks)
