"""Packages, accounts and an image's own files made into one tree; what clashes or is missing is told all at once."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING

import msgspec

from yarrik.errors import NOWHERE, Collector, Trouble, listed, suggestion
from yarrik.rootfs.accounts import ACCOUNT_FILES, account_texts, with_homes
from yarrik.rootfs.merged_usr import is_own_target, links_into_usr, placed
from yarrik.rootfs.own import ZONE_LABEL
from yarrik.rootfs.tree import Node, RootTree

if TYPE_CHECKING:
    from yarrik.errors import Place
    from yarrik.resolve import Accounts, BuiltPackage
    from yarrik.rootfs.own import OwnPath
    from yarrik.rootfs.tree import Kind

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

#: Files that follow from accounts and host name; nothing else brings them.
GENERATED = (*ACCOUNT_FILES, "/etc/hostname")


def assemble_root(
    own: Sequence[OwnPath],
    accounts: Accounts,
    passwords: Mapping[str, str],
    packages: Iterable[BuiltPackage],
    files: Mapping[str, tuple[str, int]],
    put_bytes: Callable[[bytes], str],
    notes: list[str] | None = None,
    merged_usr: bool = False,
) -> RootTree:
    """The root filesystem's tree: packages, then what is the image's `own`, where later ones go over earlier ones. `accounts`
    are those of the image and its packages, `passwords` hashes by account.

    `files` gives digest and size of files that come from elsewhere, by label; `put_bytes` stores the content of others. What
    takes the place of a package's file is told in `notes`. With `merged_usr`, `/bin`,
    `/sbin` and `/lib` are links into `/usr`; so is each that a package brings as such. Raises YarrikError with all
    clashes and unknown accounts."""
    collector = Collector()
    nodes: dict[str, Node] = {path: Node(path, "folder", mode) for path, mode in STANDARD_FOLDERS.items()}
    nodes |= {path: Node(path, "character", mode, device=(major, minor)) for path, major, minor, mode in STANDARD_NODES}

    def owner(name: str, group: str, whose: str) -> tuple[int, int]:
        found = accounts.owner(name, group)
        if found is None:
            unknown = name not in accounts.user_numbers
            word, known = ("owner", accounts.user_numbers) if unknown else ("group", accounts.group_numbers)
            collector.add(_missing(name if unknown else group, word, whose, known))
        return found or (0, 0)

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
            if (known.mode, known.uid, known.gid) != (node.mode, node.uid, node.gid):
                collector.add(_clash(known, node, "with other owners or modes"))
        elif known.kind != node.kind:
            collector.add(_clash(known, node, f"as a {known.kind} and as a {node.kind}"))
        elif known.content != node.content:
            collector.add(_clash(known, node, "with different content"))
        elif (known.mode, known.uid, known.gid) != (node.mode, node.uid, node.gid):
            how = f"{known.mode:04o} of {known.uid}:{known.gid} and {node.mode:04o} of {node.uid}:{node.gid}"
            collector.add(_clash(known, node, f"with the same content, and other modes or owners ({how})"))

    for package in packages:
        for path in package.paths:
            uid, gid = owner(path.owner, path.group, f"{path.path} of the package `{package.name}`")
            kind: Kind = "folder" if path.kind == "folder" else "link" if path.kind == "link" else "file"
            add(Node(path.path, kind, path.mode, uid, gid, path.size, path.content, package=package.name,
                     attributes=path.attributes))  # fmt: skip

    if notes is not None:
        notes += [
            f"/{top} is a link to {links[top]}: what {listed(f'`{name}`' for name in sorted(names))} "
            f"bring{'s' if len(names) == 1 else ''} there is placed in /{links[top]}"
            for top, names in sorted(through.items())
        ]

    for written, (text, mode) in account_texts(accounts, passwords).items():
        data = text.encode()
        add(Node(written, "file", mode, size=len(data), content=put_bytes(data)))
    replacing: set[tuple[str, str]] = set()
    for one in own:
        uid, gid = owner(one.owner, one.group, one.path)
        content, size = one.content, len(one.content.encode())
        if one.source:
            content, size = files[one.source]
        elif one.kind == "file":
            content = put_bytes(one.content.encode())
        node = Node(placed(one.path, links), one.kind, one.mode, uid, gid, size, content, one.device, origin=one.origin)
        known = nodes.get(node.path)
        if one.source.startswith(ZONE_LABEL) and (link := _zone_in(nodes, one)) is not None:
            node = link
        if _goes_over(known, node, one, replacing, collector):
            if known is not None and known.package and known.kind != "folder" and notes is not None:
                notes.append(f"{one.path} is the image's own, in place of the one of the package `{known.package}`")
            nodes[node.path] = node
    _check_replacing(own, replacing, collector)
    collector.raise_if_any("work")
    tree = with_homes(RootTree.of(nodes.values()), accounts, put_bytes)
    _check_folders(tree)
    return tree


def check_owners(own: Iterable[OwnPath], places: Mapping[tuple[str, str], Place], accounts: Accounts) -> None:
    """Raises YarrikError for paths of the image that belong to accounts it does not have. `places` are by path and key."""
    collector = Collector()
    users, groups = accounts.user_numbers, accounts.group_numbers
    for one in own:
        for word, name, known in (("owner", one.owner, users), ("group", one.group, groups)):
            if name and name not in known:
                collector.add(
                    _missing(name, word, one.path, known, places.get((one.path, word)) or places.get((one.path, ""), NOWHERE))
                )
    collector.raise_if_any()


def _missing(name: str, word: str, path: str, known: Mapping[str, int], place: Place = NOWHERE) -> Trouble:
    kind, table = ("a group", "[[group]]") if word == "group" else ("an account", "[[user]]")
    return Trouble("ACCOUNT-MISSING", f"{path} belongs to `{name}`, {kind} that the image does not have", place,
                   why="a filesystem keeps owners as numbers, and there is none for this name",
                   remedy=f'add {table} with `name = "{name}"` to the image; {suggestion(name, known)}')  # fmt: skip


def _zone_in(nodes: Mapping[str, Node], own: OwnPath) -> Node | None:
    """The link to the image's own zone data, where a package brings it: it is kept current with the package."""
    target = f"usr/share/zoneinfo/{own.source.removeprefix(ZONE_LABEL)}"
    if f"/{target}" not in nodes:
        return None
    return Node(own.path, "link", 0o777, size=len(target) + 3, content=f"../{target}", origin=own.origin)


def _goes_over(known: Node | None, node: Node, own: OwnPath, replacing: set[tuple[str, str]], collector: Collector) -> bool:
    """Whether the image's own path replaces the node of the same path; a replacement that is not allowed is an error."""
    if known is None:
        return True
    if (known.kind == "folder") != (node.kind == "folder"):
        if not (own.usual and known.package):
            collector.add(_clash(known, node, f"as a {known.kind} and as a {node.kind}"))
        return False
    if (own.usual and (known.package or known.kind == "folder")) or known.package in own.gives_way_to:
        return False
    if not known.package or known.kind == "folder":
        return True
    if known.package not in own.replaces:
        what = f"{own.path} is the image's own, and the package `{known.package}` brings it too"
        remedy = own.instead or f'add `replaces = "{known.package}"` to it, or take it out'
        collector.add(
            Trouble("FILE-REPLACED", what, why=f"a file of a package is replaced only where that is said ({own.origin})",
                    remedy=remedy)
        )  # fmt: skip
        return False
    replacing.add((own.path, known.package))
    return True


def _check_replacing(own: Sequence[OwnPath], replacing: set[tuple[str, str]], collector: Collector) -> None:
    """A replacement that replaces nothing was left behind by a rename, or by a package that is gone."""
    for one in own:
        if one.surely and not any((one.path, name) in replacing for name in one.replaces):
            what = f"{one.path} is to replace a file of the package `{one.replaces[0]}`, which has none there"
            collector.add(
                Trouble("FILE-REPLACES-NOTHING", what, why="a package that has moved its file would read that one",
                        remedy=f"look where it has it now, or take `replaces` out ({one.origin or 'the image'})")
            )  # fmt: skip


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
