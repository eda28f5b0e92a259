"""The views of `yarrik show` on the inside of an image: its accounts, services and roles."""

from __future__ import annotations

import datetime
import sys
from collections.abc import Mapping
from typing import TYPE_CHECKING

import msgspec

if TYPE_CHECKING:
    from yarrik.errors import Place
    from yarrik.model import Composition
    from yarrik.resolve import Account, Settled
    from yarrik.run import Session


def show_accounts(session: Session, composition: Composition, json: bool) -> None:
    """Users and groups that may be in a product's image, with their numbers and who asks for them."""
    from yarrik.cli.view import print_json, show_table, show_warnings, styled
    from yarrik.units import counted

    answer = session.planner.answer(composition)
    settled = session.planner.accounts(answer)
    warnings = session.planner.login_warnings(answer)
    groups = {one.gid: one.name for one in settled.accounts.groups}
    if json:
        print_json({
            "ok": True, "product": composition.name,
            "users": [_user_facts(one, settled, groups) for one in settled.accounts.users],
            "groups": [{"name": one.name, "id": one.gid, "members": list(one.members), "packages": list(one.packages)}
                       for one in settled.accounts.groups],
            "warnings": [warning.as_json() for warning in warnings],
        })  # fmt: skip
        return
    sys.stdout.write(f"{styled('users', 'bold')} of {composition.name}\n")
    rows, said = [], []
    for one in settled.accounts.users:
        further = [group.name for group in settled.accounts.groups if one.name in group.members]
        kept = ["its number in yarrik.lock"] if one.name in settled.users else []
        rows.append((styled(one.name, "bold"), str(one.uid), ", ".join([groups[one.gid], *further]), _login_words(one),
                     one.home, one.shell))  # fmt: skip
        said.append((styled(one.name, "bold"), ", ".join([*(place.short for place in settled.places[one.name]), *kept])))
    show_table(rows, right=(1,))
    own = {one.gid for one in settled.accounts.users}
    others = [one for one in settled.accounts.groups if one.gid not in own]
    if others:
        sys.stdout.write(f"{styled('groups', 'bold')} beside those of the users\n")
        show_table(
            [
                (styled(one.name, "bold"), str(one.gid), ", ".join(one.members) or "nobody", _asker(one.packages))
                for one in others
            ],
            right=(1,),
        )
    sys.stdout.write(f"{styled('asked for in', 'bold')}\n")
    show_table(said)
    gone = sorted(
        (settled.users.keys() - settled.accounts.user_numbers) | (settled.groups.keys() - settled.accounts.group_numbers)
    )
    if gone:
        sys.stdout.write(f"kept in yarrik.lock, and asked for by nobody now: {', '.join(gone)}\n")
    show_warnings(warnings)
    waiting = [one.name for one in settled.accounts.users if one.packages]
    if waiting:
        names = "it is" if len(waiting) == 1 else "they are"
        sys.stdout.write(
            f"{counted(len(waiting), 'account')} asked for by packages: {names} in the image if their packages are\n"
        )


def _asker(packages: tuple[str, ...]) -> str:
    return f"for {', '.join(packages)}" if packages else "the image"


def _login_words(account: Account) -> str:
    ways = {"locked": "", "open": "without a password", "password": "by password"}[account.login]
    if account.secret:
        ways += f" (secret {account.secret})"
    keys = f"by {len(account.keys)} key{'' if len(account.keys) == 1 else 's'}" if account.keys else ""
    found = ", ".join(word for word in (ways, keys) if word)
    if account.expires >= 0:
        day = datetime.date.fromordinal(account.expires + datetime.date(1970, 1, 1).toordinal())
        found += f" until {day.isoformat()}"
    return found if found and account.may_log_in else "no login"


def _user_facts(account: Account, settled: Settled, groups: dict[int, str]) -> dict[str, object]:
    """An account without its password."""
    return {
        "name": account.name, "id": account.uid, "group": groups[account.gid], "home": account.home, "shell": account.shell,
        "comment": account.comment, "login": account.login, "keys": len(account.keys), "secret": account.secret or None,
        "groups": [group.name for group in settled.accounts.groups if account.name in group.members],
        "expires-day": account.expires if account.expires >= 0 else None, "packages": list(account.packages),
        "locked": account.name in settled.users, "where": [str(place) for place in settled.places[account.name]],
    }  # fmt: skip


def show_services(session: Session, composition: Composition, json: bool) -> None:
    """Services that may be in a product's image, in the order of their start."""
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.services import in_order

    services, places = session.planner.services(session.planner.answer(composition))
    ordered = in_order(services)
    if json:
        print_json({
            "ok": True, "product": composition.name, "form": composition.profile.value.service_form,
            "services": [{**msgspec.to_builtins(one), "where": _said_at(places, one.name)} for one in ordered],
        })  # fmt: skip
        return
    if not ordered:
        sys.stdout.write(f"{composition.name} has no services\nnext: yarrik schema recipe package.service\n")
        return
    form = composition.profile.value.service_form
    sys.stdout.write(f"{styled('services', 'bold')} of {composition.name}, in the order of their start, in the form `{form}`\n")
    rows, programs, said = [], [], []
    for one in ordered:
        when = f"listens on {one.listen}" if one.listen else f"every {_span(one.every)}" if one.every else "at start"
        waits = [f"needs {', '.join(one.needs)}"] if one.needs else []
        waits += [f"after {', '.join(one.after)}"] if one.after else []
        again = "once" if one.once else {"never": "not again", "on-failure": "again on failure", "always": "again"}[one.restart]
        rows.append((styled(one.name, "bold"), one.user or "root", when, again, "; ".join(waits)))
        programs.append((styled(one.name, "bold"), " ".join((one.program, *one.arguments))))
        said.append((styled(one.name, "bold"), styled(_said_at(places, one.name), "dim")))
    show_table(rows)
    sys.stdout.write(f"{styled('programs', 'bold')}\n")
    show_table(programs)
    sys.stdout.write(f"{styled('said in', 'bold')}\n")
    show_table(said)


def _said_at(places: Mapping[str, Place], name: str) -> str:
    """Where a service is said; one that comes with the network's form is said nowhere by itself."""
    return places[name].short if name in places else "follows from the image's network"


def _span(milliseconds: int) -> str:
    """A length of time in the largest unit that leaves it whole."""
    for unit, size in (("h", 3_600_000), ("min", 60_000), ("s", 1000)):
        if milliseconds % size == 0:
            return f"{milliseconds // size} {unit}"
    return f"{milliseconds} ms"


def show_roles(session: Session, composition: Composition, json: bool) -> None:
    """Roles: which packages of the image have each, and which could."""
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.resolve import EXCLUSIVE_ROLES, USUAL_ROLES
    from yarrik.versions import parse_requirement

    answer = session.planner.answer(composition)
    found = []
    for role, packages in answer.universe.catalog.roles.items():
        there = [name for name in packages if answer.brings(name)]
        if role == "init" and not there:
            there = [answer.package_for(parse_requirement(composition.profile.value.init).name)]  # the profile names it
        found.append((role, there, [name for name in packages if name not in there]))
    if json:
        print_json({
            "ok": True, "product": composition.name,
            "roles": [{"role": role, "exclusive": role in EXCLUSIVE_ROLES, "in-image": there, "others": others}
                      for role, there, others in found],
        })  # fmt: skip
        return
    sys.stdout.write(f"{styled('roles', 'bold')} in {composition.name}\n")
    rows = []
    for role, there, others in found:
        could = f"could be {', '.join(others)}" if others else "" if there else "no shelf has one"
        only = "only one" if role in EXCLUSIVE_ROLES else ""
        rows.append((styled(role, "bold"), ", ".join(there) or "nobody", could, only, styled(USUAL_ROLES.get(role, ""), "dim")))
    show_table(rows)
