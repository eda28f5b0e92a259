"""The files that say who there is: /etc/passwd, /etc/group, their shadows, and keys for login (passwd(5), group(5), shadow(5),
sshd(8))."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING

import msgspec

from yarrik.errors import Collector, Trouble
from yarrik.rootfs.tree import Node

if TYPE_CHECKING:
    from yarrik.resolve import Account, Accounts
    from yarrik.rootfs.tree import RootTree

#: Files that follow from the accounts; nobody else brings them.
ACCOUNT_FILES = ("/etc/passwd", "/etc/group", "/etc/shadow", "/etc/gshadow")
#: Hashes that fit no password. Login services take the first for an account that is closed to keys too.
_CLOSED, _ONLY_KEYS = "!", "*"


def account_texts(accounts: Accounts, passwords: Mapping[str, str]) -> dict[str, tuple[str, int]]:
    """Text and mode of each of the files, by path. `passwords` are hashes by account."""
    users, groups = accounts.users, accounts.groups
    return {
        "/etc/passwd": ("".join(
            f"{one.name}:x:{one.uid}:{one.gid}:{one.comment or one.name}:{one.home}:{one.shell}\n" for one in users), 0o644),
        "/etc/group": ("".join(f"{one.name}:x:{one.gid}:{','.join(one.members)}\n" for one in groups), 0o644),
        "/etc/shadow": ("".join(
            f"{one.name}:{_hash(one, passwords)}::::::{one.expires if one.expires >= 0 else ''}:\n" for one in users), 0o600),
        "/etc/gshadow": ("".join(f"{one.name}:!::{','.join(one.members)}\n" for one in groups), 0o600),
    }  # fmt: skip


def _hash(account: Account, passwords: Mapping[str, str]) -> str:
    if account.login == "open":
        return ""
    if account.login == "password":
        return passwords[account.name]
    return _ONLY_KEYS if account.keys else _CLOSED


def with_homes(tree: RootTree, accounts: Accounts, put_bytes: Callable[[bytes], str]) -> RootTree:
    """The tree with each account's home: made where nobody brings it, filled from its skeleton, with its keys.

    Raises YarrikError for homes that nobody could use."""
    collector = Collector()
    added: dict[str, Node] = {}
    for one in accounts.users:
        if one.home == "/" or (one.name == "root" and not one.keys):
            continue
        home = tree.follow(one.home)
        path = one.home if home is None else home.path
        if home is not None and home.kind != "folder":
            collector.add(Trouble("ACCOUNT-HOME", f"the home {one.home} of `{one.name}` is a {home.kind}",
                                  why="nobody could enter it", remedy="name another home"))  # fmt: skip
            continue
        if home is None:
            added[path] = Node(path, "folder", 0o750, one.uid, one.gid)
        added |= {node.path: node for node in _skeleton(tree, one, path, collector)}
        if one.keys:
            _check_home(one, added.get(path) or home, collector)
            data = "".join(f"{key}\n" for key in one.keys).encode()
            added[f"{path}/.ssh"] = Node(f"{path}/.ssh", "folder", 0o700, one.uid, one.gid)
            added[f"{path}/.ssh/authorized_keys"] = Node(
                f"{path}/.ssh/authorized_keys", "file", 0o600, one.uid, one.gid, len(data), put_bytes(data)
            )
    found = tree.with_nodes(added.values()) if added else tree
    for one in accounts.users:
        shell = found.follow(one.shell)
        if one.may_log_in and (shell is None or not shell.mode & 0o111):
            what = "is not in the image" if shell is None else "is not executable"
            collector.add(
                Trouble("ACCOUNT-SHELL", f"the shell {one.shell} of `{one.name}` {what}",
                        why="who logs in is thrown out at once", remedy="name another shell, or add the package that brings it")
            )  # fmt: skip
    collector.raise_if_any("work")
    return found


def _skeleton(tree: RootTree, account: Account, home: str, collector: Collector) -> list[Node]:
    """Copies of what is in the account's skeleton, which belong to the account; what the home has already stays."""
    if not account.skeleton:
        return []
    top = tree.follow(account.skeleton)
    if top is None or top.kind != "folder":
        what = "is not in the image" if top is None else f"is a {top.kind}"
        collector.add(Trouble("ACCOUNT-SKELETON", f"the skeleton {account.skeleton} of `{account.name}` {what}",
                              why="the home would stay empty", remedy="bring the folder with [[file]]s"))  # fmt: skip
        return []
    found = []
    for node in tree.nodes:
        path = home + node.path.removeprefix(top.path)
        if node.path.startswith(top.path + "/") and path not in tree.by_path:
            found.append(msgspec.structs.replace(node, path=path, uid=account.uid, gid=account.gid, package=""))
    return found


def _check_home(account: Account, home: Node | None, collector: Collector) -> None:
    """Login services take no keys from a home that others could write to, and say so only in their log."""
    if home is None or (home.uid in (account.uid, 0) and not home.mode & 0o022):
        return
    whose = "belongs to another account" if home.uid not in (account.uid, 0) else f"can be written by others ({home.mode:04o})"
    collector.add(
        Trouble("ACCOUNT-HOME", f"the home {account.home} of `{account.name}` {whose}",
                why="login services take no keys from there: anybody could have put them",
                remedy="correct its owner and mode, where the package or the image sets them")
    )  # fmt: skip
