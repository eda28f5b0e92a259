"""Accounts of an image: what it and its packages ask for, merged, each with a number that stays."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from yarrik.errors import Collector, Place, Trouble, Unfit, suggestion
from yarrik.model import ServiceAccount, User
from yarrik.patterns import lazy_pattern
from yarrik.resolve.account_values import NO_SHELLS, Account, AccountGroup, Accounts, Login
from yarrik.resolve.login_keys import check_login_key
from yarrik.resolve.packages import package_rules

if TYPE_CHECKING:
    from yarrik.model import Definition, GroupAccount, Image, Root
    from yarrik.resolve.answer import Answer

#: Numbers that are given out: for accounts of services, and for people.
SYSTEM_NUMBERS = range(100, 1000)
PERSON_NUMBERS = range(1000, 60000)
#: The number of `nobody` and `nogroup`, which no other account has.
NOBODY = 65534

#: The role of packages that let people log in over a network.
LOGIN_SERVICE = "login-service"

#: The forms of crypt(5) that C libraries take; the older ones can be reversed within hours.
_HASH = lazy_pattern(r"\$(?:2[abxy]|5|6|7|y|gy)\$[!-9;-~]{8,}")
_OLD_HASH = lazy_pattern(r"\$(?:1|md5|3|sha1)[$,]|_?[./0-9A-Za-z]{13,}\Z")
#: A file of keys is a list for people, not a store.
_LARGEST_KEY_FILE = 1 << 20


class Asked(msgspec.Struct, frozen=True):
    """An account, or group of accounts, that a package asks for, and where."""

    package: str
    account: ServiceAccount | GroupAccount
    place: Place


class Settled(msgspec.Struct, frozen=True):
    """Accounts, and the numbers that were chosen for them: those the lock has to keep, also of accounts that are gone, since
    files on boards may still belong to them. `places` tells where each user's account is asked for."""

    accounts: Accounts
    users: Mapping[str, int]
    groups: Mapping[str, int]
    places: Mapping[str, tuple[Place, ...]]


def asked_by_packages(answer: Answer) -> Iterator[Asked]:
    """The accounts that packages of the answer's recipes ask for; which of these are in the image is seen when it is put
    together."""
    for node in answer.versions:
        if node.side != "board":
            continue
        recipe = answer.recipe(node)
        for name, rule in package_rules(recipe, answer.composition).items():
            for index, user in enumerate(rule.user):
                yield Asked(name, user, recipe.place("package", name, "user", str(index)))
            for index, group in enumerate(rule.group):
                yield Asked(name, group, recipe.place("package", name, "group", str(index)))


def settle_accounts(
    image: Definition[Image],
    asked: Iterable[Asked] = (),
    locked_users: Mapping[str, int] | None = None,
    locked_groups: Mapping[str, int] | None = None,
) -> Settled:
    """All accounts with their numbers: those that are written down, those of the lock, and the first free ones for the rest.

    Raises YarrikError for accounts that clash or cannot be, each with where it is asked for."""
    return _Settling(image, dict(locked_users or {}), dict(locked_groups or {})).run(tuple(asked))


class _Wish(msgspec.Struct):
    """What all that ask for one user say of it together; `said` has for each key who said it."""

    name: str
    id: int | None = None
    group: str = ""
    groups: dict[str, Place] = msgspec.field(default_factory=dict)
    home: str = ""
    shell: str = ""
    comment: str = ""
    packages: tuple[str, ...] = ()
    own: User | None = None
    said: dict[str, Place] = msgspec.field(default_factory=dict)
    places: list[Place] = msgspec.field(default_factory=list)

    def where(self, key: str) -> Place:
        return self.said.get(key) or self.places[0]


class _Settling(msgspec.Struct):
    image: Definition[Image]
    locked_users: dict[str, int]
    locked_groups: dict[str, int]
    collector: Collector = msgspec.field(default_factory=Collector)
    wishes: dict[str, _Wish] = msgspec.field(default_factory=dict)
    #: Groups that are asked for: number, place, packages (none: the image).
    groups: dict[str, tuple[int | None, Place, tuple[str, ...]]] = msgspec.field(default_factory=dict)
    #: Who has each number: name, whether it is written down, and where.
    uids: dict[int, tuple[str, Place]] = msgspec.field(default_factory=dict)
    gids: dict[int, tuple[str, Place]] = msgspec.field(default_factory=dict)

    def run(self, asked: Sequence[Asked]) -> Settled:
        image = self.image
        # The image comes first: what it says is no longer a question for packages.
        for index, user in enumerate(image.value.user):
            self._wish(user, image.place("user", str(index)), "")
        for index, group in enumerate(image.value.group):
            self._group(group, image.place("group", str(index)), "")
        for one in asked:
            if isinstance(one.account, ServiceAccount):
                self._wish(one.account, one.place, one.package)
            else:
                self._group(one.account, one.place, one.package)
        root = self._root()
        self.uids[0] = self.gids[0] = ("root", image.place("root"))
        uids, users = self._user_numbers()
        gids, groups = self._group_numbers(uids)
        accounts = [root]
        for name, wish in sorted(self.wishes.items()):
            gid = gids.get(wish.group or name)
            if gid is None and (wish.group or name in uids):
                self._unknown_group(wish.group, wish.where("group"), name, gids)
            accounts.append(self._account(wish, uids.get(name, NOBODY), gid if gid is not None else NOBODY))
        self.collector.raise_if_any()
        members: dict[str, list[str]] = {}
        for name, wish in sorted(self.wishes.items()):
            for further, place in wish.groups.items():
                if further not in gids:
                    self._unknown_group(further, place, name, gids)
                elif further != (wish.group or name):
                    members.setdefault(further, []).append(name)
        self.collector.raise_if_any()
        lines = []
        for name, gid in gids.items():
            wish_of = self.wishes.get(name)
            packages = self.groups[name][2] if name in self.groups else wish_of.packages if wish_of is not None else ()
            lines.append(AccountGroup(name=name, gid=gid, members=tuple(members.get(name, ())), packages=packages))
        ordered = tuple(sorted(accounts, key=lambda one: (one.uid, one.name)))
        found = Accounts(users=ordered, groups=tuple(sorted(lines, key=lambda one: (one.gid, one.name))))
        places = {name: tuple(wish.places) for name, wish in self.wishes.items()} | {"root": (image.place("root", "login"),)}
        return Settled(found, users, groups, places)

    # What is asked for

    def _wish(self, account: ServiceAccount, place: Place, package: str) -> None:
        if account.name == "root":
            self._trouble("ACCOUNT-FORM", "`root` is the account with the number 0", place, "every image has it",
                          "use the image's [root] table, and leave root out of packages")  # fmt: skip
            return
        wish = self.wishes.setdefault(account.name, _Wish(account.name))
        wish.places.append(place)
        first = wish.places[0] if wish.own is not None else None
        for key in ("id", "group", "home", "shell", "comment"):
            value, known = getattr(account, key), getattr(wish, key)
            if value in (None, "") or value == known:
                continue
            if known not in (None, ""):
                other = wish.where(key)
                if other == first:
                    continue  # the image decides
                self._trouble(
                    "ACCOUNT-CLASH", f"two packages ask for the account `{account.name}` with `{key}` {known} and {value}",
                    place, f"the first one is asked for in {other.short}",
                    f'agree on one in both recipes, or decide with [[user]] `name = "{account.name}"` in the image',
                )  # fmt: skip
                continue
            setattr(wish, key, value)
            wish.said[key] = place
        wish.groups |= dict.fromkeys(account.groups, place)
        if isinstance(account, User):
            wish.own = account
        elif wish.own is None:
            wish.packages = tuple(sorted({*wish.packages, package}))

    def _group(self, group: GroupAccount, place: Place, package: str) -> None:
        known = self.groups.get(group.name)
        if known is None:
            self.groups[group.name] = (group.id, place, (package,) if package else ())
            return
        number, first, packages = known
        if not packages and number is not None:
            return  # the image decides
        if None not in (group.id, number) and group.id != number:
            self._trouble(
                "ACCOUNT-CLASH", f"two packages give the group `{group.name}` the numbers {number} and {group.id}", place,
                f"the first one is asked for in {first.short}",
                f'agree on one in both recipes, or decide with [[group]] `name = "{group.name}"` in the image',
            )  # fmt: skip
        chosen = group.id if group.id is not None else number
        self.groups[group.name] = (chosen, place if group.id is not None else first,
                                   tuple(sorted({*packages, package})) if packages else ())  # fmt: skip

    # Numbers

    def _user_numbers(self) -> tuple[dict[str, int], dict[str, int]]:
        """The number of each user, and those that the lock has to keep."""
        found: dict[str, int] = {}
        for name, wish in sorted(self.wishes.items()):
            if wish.id is not None and self._possible(wish.id, name, "nobody", wish.where("id")):
                found[name] = wish.id
                self._take(self.uids, wish.id, name, wish.where("id"), "account")
        kept = dict(self.locked_users)
        for name, number in sorted(self.locked_users.items()):
            if name in found:
                del kept[name]  # its number is written down now
            elif self._keep(self.uids, number, name, "account"):
                found |= {name: number} if name in self.wishes else {}
        given = {group.id for group in self.image.value.group} | {number for number, _, _ in self.groups.values()}
        for name, wish in sorted(self.wishes.items()):
            if name not in found and wish.id is None:
                taken = self.uids.keys() | self.locked_groups.values() | {one for one in given if one is not None}
                number = self._free(name, self._range(wish), taken, wish.places[0])
                found[name] = kept[name] = number
                self.uids[number] = (name, wish.places[0])
        return found, kept

    def _group_numbers(self, uids: Mapping[str, int]) -> tuple[dict[str, int], dict[str, int]]:
        """The number of each group: one of a user's own has that of its user, unless it is written down."""
        found: dict[str, int] = {"root": 0}
        for name, (number, place, _) in sorted(self.groups.items()):
            if number is not None and self._possible(number, name, "nogroup", place):
                found[name] = number
                self._take(self.gids, number, name, place, "group")
        own = [name for name, wish in sorted(self.wishes.items()) if not wish.group and name not in found and name in uids]
        for name in own:
            found[name] = uids[name]
            if self.uids[uids[name]][0] == name:  # otherwise that is said of the users
                self._take(self.gids, uids[name], name, self.wishes[name].places[0], "group")
        kept = dict(self.locked_groups)
        for name, number in sorted(self.locked_groups.items()):
            if name in found:
                del kept[name]
            elif self._keep(self.gids, number, name, "group"):
                found |= {name: number} if name in self.groups else {}
        for name, (number, place, _) in sorted(self.groups.items()):
            if name not in found and number is None:
                chosen = self._free(name, SYSTEM_NUMBERS, self.gids.keys() | self.uids.keys(), place)
                found[name] = kept[name] = chosen
                self.gids[chosen] = (name, place)
        return found, kept

    def _range(self, wish: _Wish) -> range:
        user = wish.own
        if user is None or user.kind == "system":
            return SYSTEM_NUMBERS
        logs_in = (
            user.login in ("open", "password") or user.password_hash or user.password_secret or user.keys or user.key_files
        )
        return PERSON_NUMBERS if user.kind == "person" or logs_in else SYSTEM_NUMBERS

    def _free(self, name: str, numbers: range, taken: Iterable[int], place: Place) -> int:
        busy = set(taken)
        free = next((number for number in numbers if number not in busy), None)
        if free is None:
            self._trouble("ACCOUNT-ID", f"no number from {numbers[0]} to {numbers[-1]} is left for `{name}`", place,
                          "the lock also keeps the numbers of accounts that are gone",
                          "give it an `id`, or take lines of accounts that no board has out of yarrik.lock")  # fmt: skip
            return NOBODY
        return free

    def _possible(self, number: int, name: str, nobody: str, place: Place) -> bool:
        if 0 < number < NOBODY or (number == NOBODY and name == nobody):
            return True
        self._trouble("ACCOUNT-ID", f"the number {number} of `{name}` is not between 1 and {NOBODY - 1}", place,
                      f"0 is root's, and {NOBODY} that of `{nobody}`", "choose another `id`, or leave it out")  # fmt: skip
        return False

    def _take(self, numbers: dict[int, tuple[str, Place]], number: int, name: str, place: Place, kind: str) -> None:
        known = numbers.get(number)
        if known is None:
            numbers[number] = (name, place)
            return
        other = known[1].short if known[1].file is not None else "the image"
        self._trouble("ACCOUNT-TWICE", f"the {kind} `{name}` has the number {number} of `{known[0]}`", place,
                      f"files know their owners by number only; `{known[0]}` has it by {other}",
                      "give one of them another `id`, or leave it out to get a free one")  # fmt: skip

    def _keep(self, numbers: dict[int, tuple[str, Place]], number: int, name: str, kind: str) -> bool:
        known = numbers.get(number)
        if known is None:
            numbers[number] = (name, Place())
            return True
        self._trouble("ACCOUNT-TWICE", f"the {kind} `{known[0]}` has the number {number}, which yarrik.lock keeps for `{name}`",
                      known[1], f"on boards that are out, files with this number belong to `{name}`",
                      f"choose another `id`, or take the line of `{name}` out of yarrik.lock if no board has it")  # fmt: skip
        return False

    def _unknown_group(self, group: str, place: Place, user: str, known: Mapping[str, int]) -> None:
        self._trouble("ACCOUNT-MISSING", f"`{user}` is to be in the group `{group}`, which neither the image nor a package has",
                      place, "what the group is let into would stay closed",
                      f'add [[group]] with `name = "{group}"` to the image; {suggestion(group, known)}')  # fmt: skip

    # What an account is

    def _root(self) -> Account:
        root, image = self.image.value.root, self.image
        login = self._login("root", root, ("root",))
        return Account(name="root", uid=0, gid=0, home="/root", shell=root.shell, comment="root", login=login,
                       password=root.password_hash, secret=root.password_secret,
                       keys=self._keys(image, root, ("root",)))  # fmt: skip

    def _account(self, wish: _Wish, uid: int, gid: int) -> Account:
        user = wish.own or User(name=wish.name)
        keys: tuple[str, ...] = ()
        login: Login = "locked"
        if wish.own is not None:
            path = ("user", str(self.image.value.user.index(wish.own)))
            login, keys = self._login(wish.name, user, path), self._keys(self.image, user, path)
        shell = wish.shell or ("/bin/sh" if login != "locked" or keys else "/bin/false")
        home = wish.home or (f"/home/{wish.name}" if keys or user.skeleton or self._range(wish) == PERSON_NUMBERS else "/")
        for key, value in (("home", home), ("shell", shell)):
            if ":" in value:
                self._trouble("ACCOUNT-FORM", f"the {key} of `{wish.name}` must not contain a `:`", wish.where(key),
                              "it separates the fields of /etc/passwd", "choose another path")  # fmt: skip
        if keys and shell in NO_SHELLS:
            self._trouble("ACCOUNT-SHELL", f"`{wish.name}` has keys for login, and its shell {shell} lets nobody in",
                          wish.where("shell"), "who comes with a key is turned away",
                          "name a shell, or take the keys out")  # fmt: skip
        return Account(
            name=wish.name, uid=uid, gid=gid, home=home, shell=shell, comment=wish.comment, login=login,
            password=user.password_hash, secret=user.password_secret, keys=keys, skeleton=user.skeleton,
            expires=(user.expires.toordinal() - 719163) if user.expires is not None else -1, packages=wish.packages,
        )  # fmt: skip

    def _login(self, name: str, who: User | Root, path: tuple[str, ...]) -> Login:
        code = "ROOT-PASSWORD" if name == "root" else "ACCOUNT-PASSWORD"
        place = self.image.place(*path, "login")
        given = [
            key for key, value in (("password-hash", who.password_hash), ("password-secret", who.password_secret)) if value
        ]
        if len(given) > 1:
            self._trouble(code, f"`{name}` has both a `password-hash` and a `password-secret`", place,
                          "only one of them can be its password", "keep one of the two")  # fmt: skip
        elif who.login == "password" and not given:
            self._trouble(code, f"the login of `{name}` is by password, and there is none", place,
                          "nobody could log in with the account",
                          'name a secret with `password-secret = "NAME"`, or a hash of `openssl passwd -6`')  # fmt: skip
        elif who.login in ("open", "locked") and given:
            self._trouble(code, f"the login of `{name}` is `{who.login}`, and it has a `{given[0]}`", place,
                          "the password would never be asked for", f"take out `login` or `{given[0]}`")  # fmt: skip
        if who.password_hash and _HASH.fullmatch(who.password_hash) is None:
            why = "anybody who reads it finds the password within hours" if _OLD_HASH.match(who.password_hash) else \
                "a login service compares it with hashes, and never lets anybody in"  # fmt: skip
            what = "is of an old form" if _OLD_HASH.match(who.password_hash) else "is not a hash of crypt(5)"
            self._trouble(code, f"the `password-hash` of `{name}` {what}", self.image.place(*path, "password-hash"), why,
                          "make one with `openssl passwd -6`, or name a secret with `password-secret`")  # fmt: skip
        return who.login or ("password" if given else "locked")

    def _keys(self, image: Definition[Image], who: User | Root, path: tuple[str, ...]) -> tuple[str, ...]:
        found: dict[str, None] = {}
        for text in who.keys:
            try:
                check_login_key(text)
                found[text.strip()] = None
            except Unfit as error:
                self._trouble("ACCOUNT-KEY", str(error), image.place_of(text, *path, "keys"),
                              remedy="paste the line of the `.pub` file that `ssh-keygen` made")  # fmt: skip
        for name in who.key_files:
            found |= dict.fromkeys(
                self._keys_in(image.beside(name, *path, "key-files"), image.place_of(name, *path, "key-files"))
            )
        return tuple(found)

    def _keys_in(self, file: Path, place: Place) -> Iterator[str]:
        try:
            with file.open("rb") as opened:
                text = opened.read(_LARGEST_KEY_FILE + 1).decode()
        except (OSError, UnicodeDecodeError) as error:
            reason = error.strerror if isinstance(error, OSError) else "it is not text"
            self._trouble("ACCOUNT-KEY", f"cannot read the keys in {file.name}: {reason}", place,
                          remedy=f"put the public key at {file}, or correct the name")  # fmt: skip
            return
        if len(text) > _LARGEST_KEY_FILE:
            self._trouble(
                "ACCOUNT-KEY", f"{file.name} is larger than 1 MiB", place, "it is not a list of keys", "name another file"
            )
            return
        if "PRIVATE KEY" in text:
            self._trouble("ACCOUNT-KEY", f"{file.name} is a private key", place,
                          "everybody could read it in the image", f"name the public one, {file.name}.pub")  # fmt: skip
            return
        lines = [(number, line.strip()) for number, line in enumerate(text.splitlines(), 1)]
        lines = [(number, line) for number, line in lines if line and not line.startswith("#")]
        if not lines:
            self._trouble("ACCOUNT-KEY", f"{file.name} has no key in it", place, remedy="put the public key into it")
        for number, line in lines:
            try:
                check_login_key(line)
                yield line
            except Unfit as error:
                self._trouble("ACCOUNT-KEY", f"{file.name}: {error}", Place(file, number), remedy="correct or remove the line")

    def _trouble(self, code: str, what: str, place: Place, why: str = "", remedy: str = "") -> None:
        self.collector.add(Trouble(code, what, place, why=why, remedy=remedy))


def check_logins(settled: Settled, login_services: Sequence[str]) -> tuple[Trouble, ...]:
    """Raises YarrikError for accounts that need no password although there are `login_services`; returns a warning when a login
    over a network leads nowhere: a service that lets nobody in, or keys that no service asks for."""
    collector = Collector()
    users = settled.accounts.users
    for one in users:
        if one.login == "open" and login_services and one.may_log_in:
            what = f"`{one.name}` needs no password, and the package `{login_services[0]}` lets people log in over the network"
            collector.add(
                Trouble("LOGIN-OPEN", what, settled.places[one.name][-1],
                        why="everybody on the network can log in as this user",
                        remedy="lock the account, give it a password or keys, or take the package out")
            )  # fmt: skip
    collector.raise_if_any()
    with_keys = [one for one in users if one.keys]
    if login_services and not any(one.may_log_in for one in users):
        what, place = f"the package `{login_services[0]}` lets people log in over the network, and nobody can", "root"
        why = "every account is locked, and has no keys"
    elif with_keys and not login_services:
        what, place = f"`{with_keys[0].name}` has keys, and no package lets anybody log in with them", with_keys[0].name
        why = f"no package of the image has the role `{LOGIN_SERVICE}`"
    else:
        return ()
    return (
        Trouble("LOGIN-NOBODY", what, settled.places[place][-1], why=why,
                remedy="give an account a password or keys, and the image a package for remote login"),
    )  # fmt: skip
