"""Services of an image: what packages bring, what the image says of them, and the order in which they start."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Literal

import msgspec

from yarrik.errors import Place, Trouble, suggestion
from yarrik.model import Service, ServiceLimits
from yarrik.resolve import package_rules
from yarrik.units import parse_size, parse_span

if TYPE_CHECKING:
    from yarrik.errors import Collector
    from yarrik.model import Definition, Image, ImageService
    from yarrik.resolve import Accounts, Answer

Restart = Literal["never", "on-failure", "always"]
Log = Literal["console", "ring"]


class OneService(msgspec.Struct, frozen=True, kw_only=True, rename="kebab", omit_defaults=True):
    """A service with everything settled. Times are in milliseconds (0: the form's usual), `memory` in bytes. `packages` bring
    it; without any it is the image's own. `changed` is one that the image says something of. `origin` is where it is said,
    from the workspace's folder."""

    name: str
    program: str
    summary: str = ""
    arguments: tuple[str, ...] = ()
    user: str = ""
    group: str = ""
    folder: str = ""
    environment: tuple[tuple[str, str], ...] = ()
    environment_file: str = ""
    needs_environment: tuple[str, ...] = ()
    after: tuple[str, ...] = ()
    needs: tuple[str, ...] = ()
    once: bool = False
    ready_file: str = ""
    restart: Restart = "never"
    restart_delay: int = 0
    restart_most: int = 0
    stop_after: int = 0
    listen: str = ""
    every: int = 0
    log: Log | None = None
    confined: bool = False
    writes: tuple[str, ...] = ()
    open_files: int = 0
    processes: int = 0
    memory: int = 0
    packages: tuple[str, ...] = ()
    changed: bool = False
    origin: str = ""

    @property
    def at_start(self) -> bool:
        """Whether it is started with the board, and not by a connection or a clock."""
        return not self.listen and not self.every


class AskedService(msgspec.Struct, frozen=True):
    """A service that a package brings, and where that is said."""

    package: str
    service: Service
    place: Place


def asked_services(answer: Answer) -> Iterator[AskedService]:
    """The services of packages of the answer's recipes; which of these are in the image is seen when it is put together."""
    for node in answer.versions:
        if node.side == "board":
            recipe = answer.recipe(node)
            for name, rule in package_rules(recipe, answer.composition).items():
                for index, service in enumerate(rule.service):
                    yield AskedService(name, service, recipe.place("package", name, "service", str(index)))


def settle_services(
    image: Definition[Image],
    asked: Iterable[AskedService],
    origin: Callable[[Place], str],
    collector: Collector,
    usual: Sequence[OneService] = (),
) -> tuple[tuple[OneService, ...], dict[str, Place]]:
    """All services that may be in an image and are not turned off, by name, and where each is said last. What is `usual` is
    there unless somebody brings one of that name. Troubles go to `collector`."""
    found: dict[str, tuple[Service, Place, tuple[str, ...]]] = {}
    for one in asked:
        known = found.get(one.service.name)
        if known is not None:
            collector.add(
                Trouble("SERVICE-TWICE", f"`{known[2][0]}` and `{one.package}` both bring a service `{one.service.name}`",
                        one.place, why=f"the first one is said in {known[1].short}",
                        remedy="give one of them another name, or leave one package out")
            )  # fmt: skip
            continue
        found[one.service.name] = (one.service, one.place, (one.package,))
    off: set[str] = set()
    for index, own in enumerate(image.value.service):
        place = image.place("service", str(index))
        known = found.get(own.name)
        if not own.enabled:
            off.add(own.name)
        if known is None and not own.program and own.name in {one.name for one in usual}:
            continue
        if known is None and not own.program:
            names = sorted(found)
            collector.add(
                Trouble("SERVICE-UNKNOWN", f"no package brings a service `{own.name}`", place,
                        why="the image changes it, and says no program of its own",
                        remedy=f"{suggestion(own.name, names)}; a new one needs its `program`")
            )  # fmt: skip
            continue
        found[own.name] = (_over(known[0], own), place, known[2]) if known is not None else (own, place, ())
    services = []
    changed = {own.name for own in image.value.service}
    for name, (service, place, packages) in sorted(found.items()):
        if name in off:
            continue
        if not service.program:
            collector.add(Trouble("SERVICE-UNKNOWN", f"the service `{name}` has no `program`", place,
                                  why="there is nothing to start", remedy='add `program = "/usr/bin/…"`'))  # fmt: skip
            continue
        settled = _settled(service, packages, origin(place))
        services.append(msgspec.structs.replace(settled, changed=bool(packages) and name in changed))
    services += [one for one in usual if one.name not in found and one.name not in off]
    return tuple(sorted(services, key=lambda one: one.name)), {name: place for name, (_, place, _) in found.items()}


def _over(base: Service, own: ImageService) -> Service:
    """A package's service with what the image says of it: what the image leaves out stays."""
    changes: dict[str, object] = _said(own, Service)
    changes["environment"] = {**base.environment, **own.environment}
    changes["limits"] = msgspec.structs.replace(base.limits, **_said(own.limits, ServiceLimits))
    return msgspec.structs.replace(base, **changes)


def _said(value: msgspec.Struct, shape: type[msgspec.Struct]) -> dict[str, object]:
    """What is not left out of a table."""
    found = {field.name: getattr(value, field.name) for field in msgspec.structs.fields(shape)}
    return {name: one for name, one in found.items() if one not in ("", None, ())}


def _settled(service: Service, packages: tuple[str, ...], origin: str) -> OneService:
    def milliseconds(text: str) -> int:
        return round(parse_span(text) * 1000) if text else 0

    return OneService(
        name=service.name, program=service.program, summary=service.summary, arguments=service.arguments, user=service.user,
        group=service.group, folder=service.folder, environment=tuple(sorted(service.environment.items())),
        environment_file=service.environment_file, needs_environment=service.needs_environment,
        after=service.after, needs=service.needs, once=bool(service.once),
        ready_file=service.ready_file,
        restart=service.restart or "never", restart_delay=milliseconds(service.restart_delay),
        restart_most=milliseconds(service.restart_most), stop_after=milliseconds(service.stop_after), listen=service.listen,
        every=milliseconds(service.every), log=service.log or None, confined=bool(service.confined), writes=service.writes,
        open_files=service.limits.open_files or 0, processes=service.limits.processes or 0,
        memory=parse_size(service.limits.memory) if service.limits.memory else 0, packages=packages, origin=origin,
    )  # fmt: skip


def check_services(
    services: Sequence[OneService],
    accounts: Accounts,
    places: dict[str, Place],
    collector: Collector,
    complete: bool,
    shared: Container[str] = (),
) -> None:
    """What cannot work: needs that are not there, loops, accounts that are not there, variables that nothing sets, services
    that contradict themselves. With `complete` these are all services of the image; otherwise some may still drop out.
    `shared` are names of the image's own variables."""
    names = {one.name: one for one in services}
    for one in services:
        place = places.get(one.name, Place())
        where = "" if place.file is not None else f" ({one.origin})"
        for need in one.needs:
            if need not in names:
                collector.add(
                    Trouble("SERVICE-NEED", f"the service `{one.name}` needs `{need}`, which is not in the image{where}", place,
                            why="it would never be started",
                            remedy=f"add the package that brings it; {suggestion(need, sorted(names))}" if not complete
                            else "add the package that brings it, or turn the service off")
                )  # fmt: skip
        for word, name, known in (("user", one.user, accounts.user_numbers), ("group", one.group, accounts.group_numbers)):
            if name and name not in known:
                collector.add(
                    Trouble("SERVICE-USER", f"the service `{one.name}` runs as a {word} that is not there, `{name}`{where}",
                            place, why="it would fail at each start",
                            remedy=f"let its package ask for it: [[package.NAME.{word}]]; {suggestion(name, sorted(known))}")
                )  # fmt: skip
        for name in _unset(one, shared):
            collector.add(
                Trouble(
                    "SERVICE-ENVIRONMENT",
                    f"the service `{one.name}` needs the variable {name}, and nothing sets it{where}",
                    place,
                    why="its program would not work, and only the board's log would say so",
                    remedy=f'in the image: [[service]] with `name = "{one.name}"` and `environment = {{ {name} = "…" }}`, or '
                    "`environment` for all programs",
                )
            )
        for wrong in _contradictions(one):
            collector.add(
                Trouble("SERVICE-FORM", f"the service `{one.name}` {wrong}{where}", place, remedy="keep one of the two")
            )
    loop = _loop(names)
    if loop:
        words = " → ".join(f"`{name}`" for name in loop)
        collector.add(
            Trouble("SERVICE-LOOP", f"services wait for each other: {words}", places.get(loop[0], Place()),
                    why="none of them would ever be started", remedy="take one `after` or `needs` out of the loop")
        )  # fmt: skip


def _unset(one: OneService, shared: Container[str]) -> list[str]:
    """Variables that a service needs and nothing sets. An empty value is none; what a file on the board says is not known."""
    if one.environment_file:
        return []
    own = {name for name, value in one.environment if value}
    emptied = {name for name, value in one.environment if not value}
    return [name for name in one.needs_environment if name not in own and (name in emptied or name not in shared)]


def _contradictions(one: OneService) -> Iterator[str]:
    if one.listen and one.every:
        yield "waits for connections (`listen`) and for a clock (`every`)"
    if one.once and one.restart == "always":
        yield 'runs once, and is started again (`restart = "always"`)'
    if one.once and one.ready_file:
        yield "runs once, and says with `ready-file` that it is up"
    if one.writes and not one.confined:
        yield "names places that it writes to, and is not `confined`"
    if one.restart == "never" and (one.restart_delay or one.restart_most):
        yield "is never started again, and has a delay for it"


def _loop(names: dict[str, OneService]) -> list[str]:
    """A loop of services that wait for each other, first and last the same; empty when there is none."""
    state: dict[str, int] = {}
    for top in sorted(names):
        path: list[str] = []
        stack: list[tuple[str, Iterator[str]]] = [(top, iter(_before(names, top)))] if not state.get(top) else []
        while stack:
            name, rest = stack[-1]
            if state.get(name) is None:
                state[name] = 1
                path.append(name)
            following = next(rest, None)
            if following is None:
                state[name] = 2
                path.pop()
                stack.pop()
            elif state.get(following) == 1:
                return [*path[path.index(following) :], following]
            elif state.get(following) is None:
                stack.append((following, iter(_before(names, following))))
    return []


def _before(names: dict[str, OneService], name: str) -> list[str]:
    one = names[name]
    return sorted({other for other in (*one.needs, *one.after) if other in names})


def in_order(services: Sequence[OneService]) -> list[OneService]:
    """The services with each after those that it waits for; the same order everywhere. A loop is entered somewhere."""
    names = {one.name: one for one in services}
    done: dict[str, OneService] = {}
    entered: set[str] = set()
    waiting = [(name, False) for name in sorted(names, reverse=True)]
    while waiting:
        name, ready = waiting.pop()
        if ready:
            done[name] = names[name]
        elif name not in entered:
            entered.add(name)
            waiting.append((name, True))
            waiting += [(other, False) for other in reversed(_before(names, name))]
    return list(done.values())
