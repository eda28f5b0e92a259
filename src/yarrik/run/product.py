"""The steps of a product: root filesystem, disks, manifests. Those for booting have a file of their own."""

from __future__ import annotations

import msgspec

from yarrik.cache import Entry, Tree
from yarrik.disk import BESIDE, image_name, write_beside
from yarrik.elf import read_elf
from yarrik.errors import Trouble, YarrikError
from yarrik.manifest import describe_files, describe_packages
from yarrik.plan import Assemble, Describe, Provenance, WriteDisks
from yarrik.resolve import Chosen, choose_packages
from yarrik.rootfs import ModuleDamaged, Node, RootTree, assemble_root, module_files, module_indexes
from yarrik.run.packages import decode_packages, encode_packages
from yarrik.run.perform import Context, blob_path, perform


@perform.register
def _assemble(action: Assemble, context: Context) -> dict[str, str]:
    store = context.store
    candidates = [
        package for label in sorted(context.inputs) for package in decode_packages(store.get_bytes(context.inputs[label]))
    ]
    chosen = choose_packages(candidates, action.wanted)
    files = {path: (store.put_file(place), place.stat().st_size) for path, place in context.step.places.items()}
    root = assemble_root(action.image, action.hostname, [one.package for one in chosen], files, store.put_bytes,
                         context.notes, action.merged_usr)  # fmt: skip
    root = _with_module_indexes(root, context)
    _check_init(action, root, context)
    context.say(f"{len(chosen)} packages, {len(root.nodes)} paths")
    rows = [(encode_packages([one.package]).decode(), one.because) for one in chosen]
    return {"root": store.put_bytes(root.encode()), "packages": store.put_bytes(msgspec.json.encode(rows))}


def _with_module_indexes(root: RootTree, context: Context) -> RootTree:
    """Adds modules.dep and its companions for each kernel whose modules are in the image, from whatever packages."""
    added = []
    nodes = root.by_path
    for top, files in module_files(nodes).items():
        beside = {
            name: context.store.get_bytes(nodes[f"{top}/{name}"].content)
            for name in ("modules.order", "modules.builtin")
            if f"{top}/{name}" in nodes
        }
        try:
            found = module_indexes(files, lambda file, top=top: context.store.get_bytes(nodes[f"{top}/{file}"].content), beside)  # type: ignore[misc]
        except ModuleDamaged as error:
            raise YarrikError(
                Trouble("MODULE-DAMAGED", f"{top}/{error}", why="the kernel would not load it", remedy="build it again"), "work"
            ) from error
        added += [
            Node(f"{top}/{name}", "file", 0o644, size=len(data), content=context.store.put_bytes(data))
            for name, data in found.items()
        ]
        context.say(f"{len(files)} modules in {top}")
    return root.with_nodes(added) if added else root


def _check_init(action: Assemble, root: RootTree, context: Context) -> None:
    node = root.follow(action.init_path)
    if node is None or node.kind != "file":
        what = f"there is no init at {action.init_path}"
        why = "the kernel would stop with a panic after mounting the root filesystem"
    elif not node.mode & 0o111:
        what = f"the init {action.init_path} is not executable (its mode is {node.mode:04o})"
        why = "the kernel would not be able to start it"
    else:
        facts = read_elf(context.store.checked_path(node.content))
        if facts is None or facts.arch == action.arch:
            return
        what = f"the init {action.init_path} is built for {facts.arch}, and the board is {action.arch}"
        why = "the kernel would not be able to start it"
    raise YarrikError(
        Trouble("INIT-MISSING", what, why=why,
                remedy="name the package that brings it in the profile's `init`, and its path in `init-path`"),
        "work",
    )  # fmt: skip


@perform.register
def _write_disks(action: WriteDisks, context: Context) -> dict[str, str]:
    from yarrik.disk import write_disk  # loads NumPy, which a build with nothing to do need not wait for

    store = context.store
    root = RootTree.decode(store.get_bytes(context.inputs["root"]))
    # A bit that flipped on this machine's disk without a trace must not end up on a board.
    store.read_again(node.content for node in root.nodes if node.kind == "file")
    outputs: dict[str, str] = {}
    layouts: list[object] = []
    for disk in action.disks:
        file = context.work / f"{disk.name}.img"
        named = [blob.file for blob in disk.blob] + [part.file for part in disk.partition if part.file is not None]
        raw = {name: blob_path(context, f"blob {name}") for name in named}
        layout, written = write_disk(file, action.product, disk, root, action.clock, store.checked_path, raw, action.boot_apart)
        context.say(f"{disk.name}: {layout.size} bytes")
        for kind in disk.also:
            beside = context.work / f"{disk.name}{BESIDE[kind]}"
            write_beside(file, image_name(action.product, disk.name, len(action.disks)), written, kind, beside)
            outputs[f"beside:{disk.name}:{kind}"] = store.put_file(beside, move=True)
        outputs[f"disk:{disk.name}"] = store.put_file(file, move=True)
        layouts.append(
            {
                "name": disk.name,
                "table": disk.table,
                "guid": str(layout.guid),
                "signature": f"{layout.signature:08x}",
                "bytes": layout.size,
                "partitions": [
                    {
                        "name": part.name,
                        "number": part.number,
                        "guid": str(part.guid),
                        "start": part.start,
                        "bytes": part.size,
                        "filesystem": part.definition.filesystem,
                        "holds": part.definition.holds,
                    }
                    for part in layout.partitions
                ],
                "blobs": [{"file": blob.file, "start": blob.start, "bytes": blob.size} for blob in layout.blobs],
            }
        )
    outputs["layout"] = store.put_bytes(msgspec.json.encode(layouts))
    return outputs


@perform.register
def _describe(action: Describe, context: Context) -> dict[str, str]:
    store = context.store
    root = RootTree.decode(store.get_bytes(context.inputs["root"]))
    rows = msgspec.json.decode(store.get_bytes(context.inputs["packages"]), type=list[tuple[str, str]])
    chosen = [Chosen(package, because) for text, because in rows for package in decode_packages(text.encode())]
    head = {
        "product": action.product,
        "board": action.board,
        "profile": action.profile,
        "image": action.image,
        "arch": action.arch,
        "provenance": [_plain(one) for one in action.provenance],
    }
    boot = msgspec.json.decode(store.get_bytes(context.inputs["boot"]))
    disks = msgspec.json.decode(store.get_bytes(context.inputs["layout"]))
    return {
        "packages.json": store.put_bytes(describe_packages(head, chosen, boot, disks)),
        "files.json": store.put_bytes(describe_files(head, root)),
        "licences": _licences(context, {one.package.recipe for one in chosen}),
    }


def _plain(one: Provenance) -> dict[str, object]:
    return {key: value for key, value in msgspec.structs.asdict(one).items() if value}


def _licences(context: Context, recipes: set[str]) -> str:
    """The licence texts of the recipes whose packages are in the image, as one tree with a folder for each."""
    entries: list[Entry] = []
    for label, digest in sorted(context.inputs.items()):
        kind, _, recipe = label.partition(" ")
        if kind == "licences" and recipe in recipes:
            entries.append(Entry(recipe, "folder", 0o755, 0, ""))
            for entry in context.store.tree(digest).entries:
                entries.append(Entry(f"{recipe}/{entry.path}", entry.kind, entry.mode, entry.size, entry.content))
    return context.store.put_tree(Tree.of(entries))
