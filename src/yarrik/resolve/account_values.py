"""The accounts of an image as values."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property
from typing import Literal

import msgspec

#: Shells that let nobody in.
NO_SHELLS = ("/bin/false", "/usr/bin/false", "/bin/nologin", "/sbin/nologin", "/usr/sbin/nologin")

Login = Literal["locked", "open", "password"]


class Account(msgspec.Struct, frozen=True, kw_only=True, rename="kebab", omit_defaults=True):
    """A line of /etc/passwd with what goes beside it. `expires` is in days since 1970, or -1. `packages` ask for it; without
    any it is the image's own. `secret` names the secret that its password is, `password` is a hash as written down."""

    name: str
    uid: int
    gid: int
    home: str
    shell: str
    comment: str = ""
    login: Login = "locked"
    password: str = ""
    secret: str = ""
    keys: tuple[str, ...] = ()
    skeleton: str = ""
    expires: int = -1
    packages: tuple[str, ...] = ()

    @property
    def may_log_in(self) -> bool:
        """Whether a shell answers to somebody who has the password, or a key."""
        return self.shell not in NO_SHELLS and (self.login != "locked" or bool(self.keys))


class AccountGroup(msgspec.Struct, frozen=True, kw_only=True, rename="kebab", omit_defaults=True):
    """A line of /etc/group; `members` are those whose first group is another one."""

    name: str
    gid: int
    members: tuple[str, ...] = ()
    packages: tuple[str, ...] = ()


class Accounts(msgspec.Struct, frozen=True, kw_only=True, dict=True):
    """All accounts that may be in an image, by number."""

    users: tuple[Account, ...]
    groups: tuple[AccountGroup, ...]

    def among(self, packages: Iterable[str]) -> Accounts:
        """Those of an image that has these packages."""
        there = set(packages)
        users = tuple(one for one in self.users if not one.packages or there & set(one.packages))
        names = {one.name for one in users}
        first = {one.gid for one in users}
        groups = [
            msgspec.structs.replace(one, members=tuple(name for name in one.members if name in names)) for one in self.groups
        ]
        kept = (one for one in groups if not one.packages or there & set(one.packages) or one.members or one.gid in first)
        return Accounts(users=users, groups=tuple(kept))

    @cached_property
    def user_numbers(self) -> dict[str, int]:
        """Numbers of users by name."""
        return {one.name: one.uid for one in self.users}

    @cached_property
    def group_numbers(self) -> dict[str, int]:
        """Numbers of groups by name."""
        return {one.name: one.gid for one in self.groups}

    def owner(self, user: str, group: str = "") -> tuple[int, int] | None:
        """Numbers of an owner and the group that a path belongs to, which is the owner's first one unless it is said; None when
        one of them is not there."""
        account = self._users.get(user)
        if account is None:
            return None
        gid = self.group_numbers.get(group) if group else account.gid
        return None if gid is None else (account.uid, gid)

    @cached_property
    def _users(self) -> dict[str, Account]:
        return {one.name: one for one in self.users}
