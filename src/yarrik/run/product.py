"""The steps of a product: root filesystem, disks, manifests. Those for booting have a file of their own."""

from __future__ import annotations

import io

import msgspec

from yarrik.cache import Entry, Tree
from yarrik.disk import BESIDE, BOOT_FOLDER, image_name, write_beside
from yarrik.elf import read_elf
from yarrik.errors import Collector, Trouble, Unfit, YarrikError
from yarrik.identifiers import derived_guid
from yarrik.manifest import describe_files, describe_packages
from yarrik.plan import ARCHIVE, Assemble, Describe, PackInitramfs, Provenance, WriteDisks, WriteTree
from yarrik.resolve import Accounts, Chosen, choose_packages
from yarrik.rootfs import (
    BUNDLE,
    ICON_CACHE,
    LIBRARY_CACHE,
    CertificateUnfit,
    ModuleDamaged,
    Node,
    OwnPath,
    RootTree,
    assemble_root,
    icon_themes,
    library_cache,
    make_icon_cache,
    module_files,
    module_indexes,
    trusted_certificates,
)
from yarrik.run.advice import advice, check_licences, check_symbol_versions
from yarrik.run.packages import decode_packages, encode_packages
from yarrik.run.perform import Context, blob_path, perform
from yarrik.services import SERVICE_FORMS, OneService, check_services, in_order


@perform.register(Assemble)
def _assemble(action: Assemble, context: Context) -> dict[str, str]:
    store = context.store
    candidates = [
        package for label in sorted(context.inputs) for package in decode_packages(store.get_bytes(context.inputs[label]))
    ]
    chosen = choose_packages(candidates, action.wanted)
    files = {label: (store.put_file(place), place.stat().st_size) for label, place in context.step.places.items()}
    files |= {label: (store.put_bytes(text.encode()), len(text.encode())) for label, text in action.secret_files.items()}
    there = {one.package.name for one in chosen}
    accounts = action.accounts.among(there)
    services = tuple(one for one in action.services if not one.packages or set(one.packages) & there)
    own = [*action.own, *_service_files(action, services, accounts)]
    root = assemble_root(own, accounts, action.passwords, [one.package for one in chosen], files,
                         store.put_bytes, context.notes, action.merged_usr)  # fmt: skip
    _check_programs(action, services, root)
    packages = [one.package for one in chosen]
    check_symbol_versions(packages)
    check_licences(packages, action.refused_licences)
    for code, text in advice(root, packages, action.expects):
        context.note(text, code)
    root = _with_library_cache(_with_module_indexes(root, context), context)
    root = _with_icon_caches(_with_certificates(root, action.clock, context), context)
    _check_init(action, root, context)
    context.say(f"{len(chosen)} packages, {len(root.nodes)} paths")
    rows = [(encode_packages([one.package]).decode(), one.because) for one in chosen]
    return {"root": store.put_bytes(root.encode()), "packages": store.put_bytes(msgspec.json.encode(rows))}


def _service_files(action: Assemble, services: tuple[OneService, ...], accounts: Accounts) -> list[OwnPath]:
    """The files of the services that are in the image. Raises YarrikError for those that cannot work now that it is known which
    these are."""
    collector = Collector()
    check_services(services, accounts, {}, collector, complete=True, shared=action.variables)
    collector.raise_if_any("work")
    return SERVICE_FORMS[action.service_form].write(in_order(services))


def _check_programs(action: Assemble, services: tuple[OneService, ...], root: RootTree) -> None:
    """Raises YarrikError for programs that a service or the first start calls, and that are missing or cannot be run."""
    collector = Collector()
    wanted = [(one.program, f"the service `{one.name}` starts", one.origin) for one in services]
    form = SERVICE_FORMS[action.service_form]
    wanted += [(program, words, "") for program, words in action.called]
    wanted += [(program, f"services in the form `{form.name}` call", "") for program in form.programs if services]
    for program, words, origin in wanted:
        node = root.follow(program)
        if node is None or node.kind != "file" or not node.mode & 0o111:
            how = "is not in the image" if node is None else "cannot be run" if node.kind == "file" else f"is a {node.kind}"
            what = f"{words} {program}, which {how}" + (f" ({origin})" if origin else "")
            remedy = "add the package that brings it, correct the path, or turn the service off"
            collector.add(Trouble("SERVICE-PROGRAM", what, why="it would fail at each start", remedy=remedy))
    collector.raise_if_any("work")


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


def _with_library_cache(root: RootTree, context: Context) -> RootTree:
    """Adds what the C library's loader looks libraries up in, unless somebody brings it."""
    if LIBRARY_CACHE in root.by_path:
        return root
    data, links = library_cache(root, context.store.checked_path)
    for link in links:
        context.say(f"{link.path} is a link to {link.content}, as ldconfig would make it")
    added = [Node(LIBRARY_CACHE, "file", 0o644, size=len(data), content=context.store.put_bytes(data))] if data else []
    return root.with_nodes([*links, *added]) if added else root


def _with_icon_caches(root: RootTree, context: Context) -> RootTree:
    """Adds the cache of each icon theme, unless somebody brings it."""
    added = []
    for theme in icon_themes(root):
        data = make_icon_cache(root, theme)
        if data:
            added.append(Node(f"{theme}/{ICON_CACHE}", "file", 0o644, size=len(data), content=context.store.put_bytes(data)))
            context.say(f"{theme}/{ICON_CACHE}: {len(data)} bytes")
    return root.with_nodes(added) if added else root


def _with_certificates(root: RootTree, clock: int, context: Context) -> RootTree:
    """Adds the bundle of trusted certificates, and the links by which they are found, unless somebody brings them."""
    if BUNDLE in root.by_path:
        return root
    try:
        found = trusted_certificates(root, context.store.get_bytes, clock)
    except CertificateUnfit as error:
        brings = f" (of the package {error.package})" if error.package else ""
        trouble = Trouble("CERTIFICATE-DAMAGED", f"{error}{brings}", why="programs would not trust what it stands for",
                          remedy="take it out, or bring another one")  # fmt: skip
        raise YarrikError(trouble, "work") from error
    for text in found.notes:
        context.note(text, "CERTIFICATE-UNUSUAL")
    if not found.bundle:
        return root
    context.say(f"{BUNDLE}: {found.bundle.count(b'BEGIN CERTIFICATE')} certificates")
    links = [Node(path, "link", 0o777, content=target) for path, target in found.links.items() if path not in root.by_path]
    bundle = Node(BUNDLE, "file", 0o644, size=len(found.bundle), content=context.store.put_bytes(found.bundle))
    return root.with_nodes([*links, bundle])


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


@perform.register(WriteDisks)
def _write_disks(action: WriteDisks, context: Context) -> dict[str, str]:
    from yarrik.disk import write_disk  # loads NumPy, which a build with nothing to do need not wait for

    store = context.store
    root = RootTree.decode(store.get_bytes(context.inputs["root"]))
    # A bit that flipped on this machine's disk without a trace must not end up on a board.
    store.read_again(node.content for node in root.nodes if node.kind == "file")
    images = further_images(context)
    for tree in images.values():
        store.read_again(node.content for node in tree.nodes if node.kind == "file")
    outputs: dict[str, str] = {}
    layouts: list[object] = []
    for disk in action.disks:
        file = context.work / f"{disk.name}.img"
        named = [blob.file for blob in disk.blob] + [part.file for part in disk.partition if part.file is not None]
        raw = {name: blob_path(context, f"blob {name}") for name in named}
        layout, written = write_disk(file, action.product, disk, root, action.clock, store.checked, raw, action.boot_apart,
                                     images)  # fmt: skip
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


@perform.register(Describe)
def _describe(action: Describe, context: Context) -> dict[str, str]:
    store = context.store
    root = RootTree.decode(store.get_bytes(context.inputs["root"]))
    chosen = chosen_packages(context, "packages")
    further = {
        label.removeprefix("packages "): chosen_packages(context, label)
        for label in context.inputs
        if label.startswith("packages ")
    }
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
        "packages.json": store.put_bytes(describe_packages(head, chosen, boot, disks, further)),
        "files.json": store.put_bytes(describe_files(head, root)),
        "licences": _licences(
            context, {name for rows in (chosen, *further.values()) for one in rows for name in one.package.recipes}
        ),
    }


def chosen_packages(context: Context, label: str) -> list[Chosen]:
    """The packages of a root filesystem."""
    rows = msgspec.json.decode(context.store.get_bytes(context.inputs[label]), type=list[tuple[str, str]])
    return [Chosen(package, because) for text, because in rows for package in decode_packages(text.encode())]


@perform.register(WriteTree)
def _write_tree(action: WriteTree, context: Context) -> dict[str, str]:
    from yarrik.disk import Wish, pack_folder

    store = context.store
    tree = RootTree.decode(store.get_bytes(context.inputs["root"]))
    store.read_again(node.content for node in tree.nodes if node.kind == "file")
    if action.boot:
        boot = [node for node in tree.nodes if node.path.startswith(f"{BOOT_FOLDER}/")]
        tree = RootTree.of([msgspec.structs.replace(node, path=node.path[len(BOOT_FOLDER) :]) for node in boot])
    outputs: dict[str, str] = {}
    for form in action.forms:
        if form == "folder":
            files = [node for node in tree.nodes if node.kind == "file"]
            outputs |= {f"file:{action.name}{node.path}": node.content for node in files}
            context.say(f"{action.name}/  {len(files)} files")
            continue
        filesystem, _, compression = form.partition("-")
        name = f"{action.name}.{filesystem}{BESIDE.get(compression, '')}"
        guid = derived_guid("filesystem", action.product, action.name, filesystem)
        file = context.work / name
        try:
            wish = Wish(filesystem, guid, clock=action.clock, compression=compression)
            pack_folder(tree, file, wish, content=store.checked)
        except Unfit as error:
            trouble = Trouble("IMAGE-FORM", f"{action.name} cannot be written as {form}: {error}",
                              why="that form cannot hold all of it", remedy="choose another form in the product")  # fmt: skip
            raise YarrikError(trouble, "work") from error
        context.say(f"{name}  {file.stat().st_size} bytes")
        outputs[f"file:{name}"] = store.put_file(file, move=True)
    return outputs


@perform.register(PackInitramfs)
def _pack_initramfs(action: PackInitramfs, context: Context) -> dict[str, str]:
    from yarrik.disk import write_cpio

    store = context.store
    tree = RootTree.decode(store.get_bytes(context.inputs["root"]))
    sink = io.BytesIO()
    write_cpio(tree, sink, store.checked, action.clock)
    data = sink.getvalue()
    context.say(f"{action.name}: {len(tree.nodes)} paths, {len(data)} bytes")
    return {"tree": store.put_tree(Tree.of([Entry(ARCHIVE, "file", 0o644, len(data), store.put_bytes(data))]))}


def further_images(context: Context) -> dict[str, RootTree]:
    """The product's further root filesystems that a step takes, by name."""
    return {label.removeprefix("image "): RootTree.decode(context.store.get_bytes(digest))
            for label, digest in context.inputs.items() if label.startswith("image ")}  # fmt: skip


def _plain(one: Provenance) -> dict[str, object]:
    return {key: value for key, value in msgspec.structs.asdict(one).items() if value}


def _licences(context: Context, recipes: set[str]) -> str:
    """The licence texts of recipes that are in the image, as one tree with a folder for each."""
    entries: list[Entry] = []
    for label, digest in sorted(context.inputs.items()):
        kind, _, recipe = label.partition(" ")
        if kind == "licences" and recipe in recipes:
            entries.append(Entry(recipe, "folder", 0o755, 0, ""))
            for entry in context.store.tree(digest).entries:
                entries.append(Entry(f"{recipe}/{entry.path}", entry.kind, entry.mode, entry.size, entry.content))
    return context.store.put_tree(Tree.of(entries))
