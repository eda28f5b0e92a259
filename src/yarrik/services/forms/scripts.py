"""A numbered set of shell scripts with the comment block of the Linux Standard Base (LSB 5.0, Core, chapters 22.2 and 22.3)."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from typing import TYPE_CHECKING

from yarrik.services.form import ServiceForm, service_file, service_link

if TYPE_CHECKING:
    from yarrik.rootfs import OwnPath
    from yarrik.services.settle import OneService

_START, _STOP = (2, 3, 4, 5), (0, 1, 6)
_DAEMON = "start-stop-daemon"

_BODY = """\
#!/bin/sh
### BEGIN INIT INFO
# Provides:          {name}
# Required-Start:    {needs}
# Required-Stop:     {needs}
# Should-Start:      {after}
# Should-Stop:       {after}
# Default-Start:     2 3 4 5
# Default-Stop:      0 1 6
# Short-Description: {summary}
### END INIT INFO

pid_file=/run/{name}.pid

start() {{
{start}
}}

stop() {{
{stop}
}}

status() {{
{status}
}}

case "$1" in
start) start ;;
stop) stop ;;
restart | force-reload) stop && start ;;
status) status ;;
*)
    echo "usage: $0 start|stop|restart|status" >&2
    exit 2
    ;;
esac
"""


def _write(services: Sequence[OneService]) -> list[OwnPath]:
    found = []
    for number, one in enumerate(services, 1):
        found.append(service_file(f"/etc/init.d/{one.name}", _script(one), one, 0o755))
        for level in _START:
            found.append(service_link(f"/etc/rc{level}.d/S{number:02d}{one.name}", f"../init.d/{one.name}", one))
        for level in _STOP:
            found.append(
                service_link(f"/etc/rc{level}.d/K{len(services) - number + 1:02d}{one.name}", f"../init.d/{one.name}", one)
            )
    return found


def _script(one: OneService) -> str:
    quoted = [shlex.quote(word) for word in (one.program, *one.arguments)]
    files = ["/etc/environment", *([shlex.quote(one.environment_file)] if one.environment_file else [])]
    setting = [f"    if [ -r {file} ]; then set -a; . {file}; set +a; fi" for file in files]
    setting += [f"    export {key}={shlex.quote(value)}" for key, value in one.environment]
    for flag, limit in (("n", one.open_files), ("u", one.processes), ("v", one.memory // 1024)):
        if limit:
            setting.append(f"    ulimit -{flag} {limit}")
    who = f"{one.user or 'root'}{':' + one.group if one.group else ''}"
    common = f"{_DAEMON} --pidfile $pid_file"
    words = [f"    {_DAEMON} --start --pidfile $pid_file --chuid {who}", f"--chdir {shlex.quote(one.folder or '/')}",
             f"--startas {quoted[0]}"]  # fmt: skip
    if not one.once:
        words.insert(1, "--background --make-pidfile")
    words += ["--", *quoted[1:]] if quoted[1:] else []
    start = [*setting, " ".join(words)]
    if one.ready_file:
        file = shlex.quote(one.ready_file)
        start = [f"    rm -f {file}", *start, f"    while [ ! -e {file} ]; do", "        sleep 1", "    done"]
    seconds = max(1, -(-(one.stop_after or 5000) // 1000))
    stop = [f"    {common} --stop --oknodo --remove-pidfile --retry=TERM/{seconds}/KILL/5"]
    status = [f"    {common} --status"]
    if one.once:
        stop, status = ["    :"], ["    :"]
    return _BODY.format(
        name=one.name, needs=" ".join(one.needs), after=" ".join(one.after), summary=one.summary or one.name,
        start="\n".join(start), stop="\n".join(stop), status="\n".join(status),
    )  # fmt: skip


def _lacks(one: OneService) -> list[str]:
    found = []
    if one.restart != "never":
        found.append(f'starts a program again when it has ended (`restart = "{one.restart}"`)')
    if one.listen:
        found.append("starts a program when somebody connects (`listen`)")
    if one.every:
        found.append("runs a program again and again (`every`)")
    if one.log == "ring":
        found.append('keeps what a program says in a ring of files (`log = "ring"`)')
    if one.confined:
        found.append("confines a program (`confined`)")
    return found


FORM = ServiceForm("scripts", _write, _lacks, ("/bin/sh", f"/sbin/{_DAEMON}"))
