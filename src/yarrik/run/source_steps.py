"""Steps that get sources: downloads, repositories, archives, Debian packages, patches."""

from __future__ import annotations

from collections.abc import Callable

from msgspec.structs import replace

from yarrik.beneath import Folder, NotPlain
from yarrik.cache import Tree
from yarrik.errors import Place, Trouble, YarrikError, suggestion
from yarrik.plan import ApplyPatches, Clone, Download, Unpack, UnpackDebian
from yarrik.run.perform import CommandFailed, Context, command_runner, lay_out_inputs, lay_out_own_inputs, perform, taken
from yarrik.sources import (
    SERIES,
    Limits,
    check_out,
    download,
    misfits,
    patch_text,
    read_dsc,
    series_of,
    unfit_package,
    unpack_archive,
    unpack_members,
    with_addresses,
)
from yarrik.units import shown_size

#: What helps when no Debian archive has a file that its index names.
_OTHER_ARCHIVE = (
    "check the network; where an archive lacks the file, take another revision with `version`, or name an archive that has it: "
    "[[debian-archive]] in the settings"
)


@perform.register(Download)
def _download(action: Download, context: Context) -> dict[str, str]:
    place = context.step.marks.get("url", Place())
    if not context.store.has(action.sha256):
        _stop_offline(context, place)
        urls = with_addresses(context.step.urls, context.archives)
        known = {} if urls == context.step.urls else {"remedy": _OTHER_ARCHIVE}
        download(urls, action.sha256, context.store, context.say, place, _received(context), context.redirect_hosts, **known)
    return {"file": action.sha256}


def _stop_offline(context: Context, place: Place) -> None:
    """Raises YarrikError for a source that has to be fetched when nothing may be."""
    if context.offline:
        raise YarrikError(
            Trouble("SOURCE-OFFLINE", f"the source of `{context.step.subject}` is not here yet", place,
                    why="with --offline nothing is fetched", remedy="yarrik fetch, where there is a network"),
            "work",
        )  # fmt: skip


def _received(context: Context) -> Callable[[int, int | None], None]:
    def tell(have: int, total: int | None) -> None:
        of = f" of {shown_size(total)}" if total else ""
        context.tell(f"{shown_size(have)}{of} received")

    return tell


@perform.register(Clone)
def _clone(action: Clone, context: Context) -> dict[str, str]:
    place = context.step.marks.get("url", Place())
    _stop_offline(context, place)
    folder = check_out(context.step.urls, action.commit, action.submodules, context.work / "repository", context.say, place)
    try:
        with Folder.at(folder) as top, top.folder(action.folder or ".") as part:
            tree = context.store.snapshot(part, plain=True)
    except (FileNotFoundError, NotPlain) as error:
        raise YarrikError(Trouble("SOURCE-MISSING", f"the commit has no folder {action.folder}", place,
                                  remedy="correct `folder`"), "work") from error  # fmt: skip
    return {"tree": tree.digest}


@perform.register(Unpack)
def _unpack(action: Unpack, context: Context) -> dict[str, str]:
    archive = context.store.checked_path(context.inputs["archive"])
    tree = unpack_archive(archive, action.name, context.store, Limits(action.member_limit, action.size_limit))
    context.say(f"{len(tree.entries)} entries")
    return {"tree": _part_of(tree, action.folder, context).digest}


def _part_of(tree: Tree, folder: str, context: Context) -> Tree:
    """A folder of a recipe's sources, as a tree of its own that is stored; all of them without one."""
    if not folder:
        return tree
    inside = [entry for entry in tree.entries if entry.path.startswith(folder + "/")]
    if not inside:
        known = [entry.path for entry in tree.entries if entry.kind == "folder"]
        place = context.step.marks.get("source", Place())
        trouble = Trouble("SOURCE-MISSING", f"the source has no folder {folder}", place, remedy=suggestion(folder, known))
        raise YarrikError(trouble, "work")
    part = Tree.of(replace(entry, path=entry.path[len(folder) + 1 :]) for entry in inside)
    context.store.put_tree(part)
    return part


@perform.register(UnpackDebian)
def _unpack_debian(action: UnpackDebian, context: Context) -> dict[str, str]:
    place = context.step.marks.get("source", Place())
    digests = {label.removeprefix("file "): digest for label, digest in context.inputs.items()}
    paths = {name: context.store.checked_path(digest) for name, digest in digests.items()}
    dsc = context.store.get_bytes(digests[action.dsc])
    members = read_dsc(dsc, action.package, action.version, digests, place, action.patches)
    limits = Limits(action.member_limit, action.size_limit)
    tree = unpack_members(action.package, members, paths, action.patches, context.store, limits)
    context.say(f"{len(tree.entries)} entries")
    entries = {entry.path: entry for entry in tree.entries}
    if not action.patches or (SERIES not in entries and not members.patch):
        return {"tree": _part_of(tree, action.folder, context).digest}
    lay_out_inputs({"source": tree.digest}, context.store, context.sandbox, context.below, ("source",))
    context.below.make_folder("tmp/patches")
    if members.patch:
        data = patch_text(action.package, members.patch, context.store.get_bytes(digests[members.patch]))
        _lay_on(context, members.patch, data, 1)
    with context.below.folder("source") as source:
        try:
            text = source.text(SERIES)
        except OSError:
            text = ""  # a package of the oldest form may have none
        patches = series_of(action.package, text)
        found = []
        for one in patches:
            try:
                found.append(source.read(one.path))
            except OSError as error:
                raise unfit_package(action.package, f"{SERIES} names {one.path}, which is not there", place) from error
    for patch, data in zip(patches, found, strict=True):
        _lay_on(context, patch.path, data, patch.strip)
    with context.below.folder("source") as source:
        return {"tree": _part_of(context.store.snapshot(source, plain=True), action.folder, context).digest}


def _lay_on(context: Context, name: str, data: bytes, strip: int) -> None:
    """Applies a patch as dpkg-source(1) does: with offsets, and without fuzz."""
    context.below.write("tmp/patches/next", data)
    context.say(f"patch {name}")
    run = command_runner(context, {}, "{step}/source", ("source",))
    try:
        run(("patch", "-t", "-F", "0", "-N", f"-p{strip}", "-u", "-V", "never", "-E", "--no-backup-if-mismatch", "-i",
             "{step}/tmp/patches/next"))  # fmt: skip
    except CommandFailed as error:
        remedy = "take another version of the package, or `debian-patches = false`"
        place = context.step.marks.get("source", Place())
        raise _patch_failed(context, name, data.decode("utf-8", "replace"), lambda line: place, remedy) from error


@perform.register(ApplyPatches)
def _apply_patches(action: ApplyPatches, context: Context) -> dict[str, str]:
    lay_out_own_inputs(context, writable=("source",))
    context.below.make_folder("tmp/patches")
    environment = {"GIT_CEILING_DIRECTORIES": "{step}", "GIT_CONFIG_NOSYSTEM": "1"}
    run = command_runner(context, environment, "{step}/source", ("source",))
    for number, name in enumerate(action.patches):
        context.store.copy_out(taken(context, name), context.below, f"tmp/patches/{number}", 0o644)
        context.say(f"patch {name}")
        try:
            run(("git", "apply", "--verbose", "--whitespace=nowarn", f"{{step}}/tmp/patches/{number}"))
        except CommandFailed as error:
            raise _own_patch_failed(context, name) from error
    with context.below.folder("source") as source:
        tree = context.store.snapshot(source, plain=True)
    return {"tree": tree.digest}


def _own_patch_failed(context: Context, name: str) -> YarrikError:
    file = context.step.places[name]
    remedy = "make the patch again from these sources, or take it out if they have what it brings"
    text = file.read_text(encoding="utf-8", errors="replace")
    return _patch_failed(context, name, text, lambda line: Place(file, line or None), remedy)


def _patch_failed(context: Context, name: str, text: str, place: Callable[[int], Place], remedy: str) -> YarrikError:
    """Which hunks of a patch do not fit, and what stands where. `place` tells where a line of the patch is."""
    troubles = []
    with context.below.folder("source") as source:
        unfit = misfits(text, source)
    for one in unfit:
        where = f"{one.hunk.file}:{one.line}" if one.line else one.hunk.file
        there = (
            f"`{one.found.strip()}` stands there"
            if one.found is not None
            else "there is no such " + ("line" if one.line else "file")
        )
        troubles.append(
            Trouble("PATCH-FAILED", f"the patch {name} does not fit {where}: it wants `{one.wanted.strip()}`, and {there}",
                    place(one.hunk.at), why="the sources have changed where the patch changes them", remedy=remedy)
        )  # fmt: skip
    if not troubles:
        troubles.append(
            Trouble("PATCH-FAILED", f"the patch {name} cannot be applied", place(0), why="the log has the program's own words",
                    remedy=f"yarrik log {context.step.name}")
        )  # fmt: skip
    return YarrikError(troubles, "work")
