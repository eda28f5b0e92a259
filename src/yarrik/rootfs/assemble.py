"""Packages, accounts and an image's own files made into one tree; what clashes or is missing is told all at once."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass

import msgspec

from yarrik.errors import NOWHERE, Collector, Place, Trouble, listed, suggestion
from yarrik.model import Image
from yarrik.resolve import BuiltPackage
from yarrik.rootfs.merged_usr import is_own_target, links_into_usr, placed
from yarrik.rootfs.tree import Node, RootTree

#: Folders that every image has, with their modes.
STANDARD_FOLDERS = {
    "/dev": 0o755,
    "/etc": 0o755,
    "/proc": 0o555,
    "/root": 0o700,
    "/run": 0o755,
    "/sys": 0o555,
    "/tmp": 0o1777,
    "/var": 0o755,
}

#: Needed before the kernel has filled /dev: (path, major, minor, mode).
STANDARD_NODES = (("/dev/console", 5, 1, 0o600), ("/dev/null", 1, 3, 0o666))

_GENERATED = ("/etc/passwd", "/etc/group", "/etc/shadow", "/etc/hostname")


@dataclass(frozen=True)
class _Account:
    uid: int
    home: str
    shell: str


def assemble_root(
    image: Image,
    hostname: str,
    packages: Iterable[BuiltPackage],
    files: Mapping[str, tuple[str, int]],
    put_bytes: Callable[[bytes], str],
    notes: list[str] | None = None,
    merged_usr: bool = False,
) -> RootTree:
    """The root filesystem's tree.

    `files` gives digest and size of the image's files that come from elsewhere, by path; `put_bytes` stores the
    content of generated ones. What the image's own files take the place of is told in `notes`. With `merged_usr`, `/bin`,
    `/sbin` and `/lib` are links into `/usr`; so is each that a package brings as such. Raises YarrikError with all
    clashes and unknown accounts."""
    collector = Collector()
    accounts = _accounts(image, collector)
    nodes: dict[str, Node] = {path: Node(path, "folder", mode) for path, mode in STANDARD_FOLDERS.items()}
    nodes |= {path: Node(path, "character", mode, device=(major, minor)) for path, major, minor, mode in STANDARD_NODES}

    def owner(name: str, whose: str) -> int:
        if name not in accounts:
            collector.add(
                Trouble(
                    "ACCOUNT-MISSING",
                    f"{whose} belongs to `{name}`, an account that the image does not have",
                    why="a filesystem keeps owners as numbers, and there is none for this name",
                    remedy=f'add [[user]] with `name = "{name}"` and an `id` to the image, or correct the name '
                    f"(known: {', '.join(sorted(accounts))})",
                )
            )
            return 0
        return accounts[name].uid

    packages = sorted(packages, key=lambda package: package.name)
    brought = [(path.path, path.kind, path.content) for package in packages for path in package.paths]
    links = links_into_usr(brought, merged_usr)
    for top, target in links.items():
        nodes[f"/{top}"] = Node(f"/{top}", "link", 0o777, size=len(target), content=target)
        nodes.setdefault(f"/{target}", Node(f"/{target}", "folder", 0o755))
    through: dict[str, set[str]] = {}

    def add(node: Node) -> None:
        if node.path[1:] in links and node.kind in ("folder", "link"):
            return  # a folder, or the same link, where the layout has the link
        if node.kind == "link" and node.path.split("/")[1] in links and is_own_target(node.path, node.content, links):
            return
        path = placed(node.path, links)
        if path != node.path and not merged_usr:
            through.setdefault(node.path.split("/")[1], set()).add(node.package)
        if path != node.path:
            node = msgspec.structs.replace(node, path=path)
        known = nodes.get(node.path)
        if known is None or (known.kind == "folder" and node.kind == "folder" and not known.package):
            nodes[node.path] = node
        elif known.kind == "folder" and node.kind == "folder":
            if (known.mode, known.uid) != (node.mode, node.uid):
                collector.add(_clash(known, node, "with other owners or modes"))
        elif known.kind != node.kind:
            collector.add(_clash(known, node, f"as a {known.kind} and as a {node.kind}"))
        elif known.content != node.content:
            collector.add(_clash(known, node, "with different content"))
        elif (known.mode, known.uid) != (node.mode, node.uid):
            how = f"{known.mode:04o} of {known.uid} and {node.mode:04o} of {node.uid}"
            collector.add(_clash(known, node, f"with the same content, and other modes or owners ({how})"))

    for package in packages:
        for path in package.paths:
            uid = owner(path.owner, f"{path.path} of the package `{package.name}`")
            kind = "folder" if path.kind == "folder" else "link" if path.kind == "link" else "file"
            add(Node(path.path, kind, path.mode, uid, uid, path.size, path.content, package=package.name))  # type: ignore[arg-type]

    if notes is not None:
        notes += [
            f"/{top} is a link to {links[top]}: what {listed(f'`{name}`' for name in sorted(names))} "
            f"bring{'s' if len(names) == 1 else ''} there is placed in /{links[top]}"
            for top, names in sorted(through.items())
        ]

    def generated(path: str, text: str, mode: int = 0o644) -> None:
        data = text.encode()
        add(Node(path, "file", mode, size=len(data), content=put_bytes(data)))

    generated("/etc/hostname", hostname + "\n")
    generated("/etc/passwd", "".join(f"{n}:x:{a.uid}:{a.uid}:{n}:{a.home}:{a.shell}\n" for n, a in accounts.items()))
    generated("/etc/group", "".join(f"{name}:x:{account.uid}:\n" for name, account in accounts.items()))
    generated("/etc/shadow", "".join(f"{name}:{_secret(image, name)}:::::::\n" for name in accounts), 0o600)
    for folder in image.folder:
        uid = owner(folder.owner, folder.path)
        _own(nodes, Node(placed(folder.path, links), "folder", int(folder.mode, 8), uid, uid), collector)
    for device in image.node:
        uid = owner(device.owner, device.path)
        numbers = (device.major, device.minor)
        _own(nodes, Node(placed(device.path, links), device.kind, int(device.mode, 8), uid, uid, device=numbers), collector)
    for file in image.file:
        uid = owner(file.owner, file.path)
        if file.content is not None:
            data = file.content.encode()
            digest, size = put_bytes(data), len(data)
        else:
            digest, size = files[file.path]
        known = nodes.get(placed(file.path, links))
        if known is not None and known.package and known.kind != "folder" and notes is not None:
            notes.append(f"{file.path} is the image's own, in place of the one of the package `{known.package}`")
        _own(nodes, Node(placed(file.path, links), "file", int(file.mode, 8), uid, uid, size, digest), collector)
    for account in accounts.values():
        if account.home not in nodes and account.home != "/":
            nodes[account.home] = Node(account.home, "folder", 0o750, account.uid, account.uid)
    collector.raise_if_any("work")
    tree = RootTree.of(nodes.values())
    _check_folders(tree)
    return tree


#: The role of packages that let people log in over a network.
LOGIN_SERVICE = "login-service"


def check_image(image: Image, login_services: Sequence[str] = (), login: Place = NOWHERE) -> None:
    """What can be said of an image before anything is built: its accounts, who owns its own files, and whether root may log
    in without a password although there are `login_services`. `login` is the place of `root.login`. Raises YarrikError."""
    collector = Collector()
    if image.root.login == "open" and login_services:
        what = f"`root` needs no password, and the package `{login_services[0]}` lets people log in over the network"
        collector.add(
            Trouble("LOGIN-OPEN", what, login, why="everybody on the network can log in as this user",
                    remedy="lock the account or give it a password (`root.login`), or take the package out")
        )  # fmt: skip
    accounts = _accounts(image, collector)
    owned = [(one.path, one.owner) for one in image.file]
    owned += [(one.path, one.owner) for one in image.folder]
    owned += [(one.path, one.owner) for one in image.node]
    for path, owner in owned:
        if owner not in accounts:
            collector.add(
                Trouble("ACCOUNT-MISSING", f"{path} belongs to `{owner}`, an account that the image does not have",
                        why="a filesystem keeps owners as numbers, and there is none for this name",
                        remedy=f'add [[user]] with `name = "{owner}"` and an `id`; {suggestion(owner, accounts)}')
            )  # fmt: skip
    collector.raise_if_any()


def _accounts(image: Image, collector: Collector) -> dict[str, _Account]:
    accounts = {"root": _Account(0, "/root", image.root.shell)}
    ids = {0: "root"}
    for user in image.user:
        if user.name in accounts or user.id in ids:
            holder = ids.get(user.id, user.name)
            collector.add(
                Trouble("ACCOUNT-TWICE", f"the account `{user.name}` (id {user.id}) is taken by `{holder}`",
                        remedy="give each account a name and an id of its own")
            )  # fmt: skip
        elif not 0 < user.id < 65534:
            collector.add(Trouble("ACCOUNT-ID", f"the id {user.id} of `{user.name}` is not between 1 and 65533",
                                  remedy="choose another id"))  # fmt: skip
        elif ":" in user.home + user.shell:
            collector.add(Trouble("ACCOUNT-FORM", f"home and shell of `{user.name}` must not hold a `:`",
                                  why="it separates the fields of /etc/passwd", remedy="choose other paths"))  # fmt: skip
        else:
            accounts[user.name] = _Account(user.id, user.home, user.shell)
            ids[user.id] = user.name
    if image.root.login == "password" and not image.root.password_hash.startswith("$"):
        collector.add(Trouble("ROOT-PASSWORD", "root's login is `password`, and `password-hash` holds no hash",
                              remedy="make one with `openssl passwd -6`, and write it there"))  # fmt: skip
    return accounts


def _secret(image: Image, name: str) -> str:
    if name != "root" or image.root.login == "locked":
        return "!"
    return image.root.password_hash if image.root.login == "password" else ""


def _own(nodes: dict[str, Node], node: Node, collector: Collector) -> None:
    """What the image itself says goes before what packages brought, but not before accounts and host name."""
    if node.path in _GENERATED:
        collector.add(Trouble("IMAGE-GENERATED", f"{node.path} is written from the image's accounts and host name",
                              remedy="use `hostname`, [root] and [[user]] in the image"))  # fmt: skip
        return
    known = nodes.get(node.path)
    if known is not None and (known.kind == "folder") != (node.kind == "folder"):
        collector.add(_clash(known, node, f"as a {known.kind} and as a {node.kind}"))
        return
    nodes[node.path] = node


def _clash(known: Node, node: Node, how: str) -> Trouble:
    def name(one: Node) -> str:
        if one.package:
            return f"the package `{one.package}`"
        return "the folders of every image" if one.path in STANDARD_FOLDERS else "the image"

    return Trouble(
        "PATH-CLASH",
        f"{name(known)} and {name(node)} both bring {node.path}, {how}",
        why="only one of them can be there, and which one would be arbitrary",
        remedy="take the path out of one package's `files`, or one of the packages out of the image",
    )


def _check_folders(tree: RootTree) -> None:
    collector = Collector()
    for node in tree.nodes:
        parent = tree.by_path.get(node.parent)
        if parent is not None and parent.kind != "folder":
            collector.add(
                Trouble("PATH-BELOW-FILE", f"{node.path} lies below {parent.path}, which is a {parent.kind}",
                        remedy="put it where the link leads, or take the link away")
            )  # fmt: skip
    collector.raise_if_any("work")
