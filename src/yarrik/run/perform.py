"""What each action does. An action gets its inputs' digests and an empty folder, and gives digests of its outputs."""

from __future__ import annotations

import fnmatch
import os
import time
from collections.abc import Callable, Collection, Mapping, Sequence
from functools import singledispatch
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

import msgspec

from yarrik.beneath import Folder, NotPlain
from yarrik.cache import Entry, Store, Tree, clashes
from yarrik.elf import MAGIC, ElfFacts, read_elf
from yarrik.errors import Collector, Damaged, Place, Trouble, YarrikError, suggestion
from yarrik.objects import AR_MAGIC, foreign_in_archive, foreign_program
from yarrik.patterns import lazy_pattern
from yarrik.plan import (
    Action,
    ApplyPatches,
    Clone,
    CollectLicences,
    ConfigureKernel,
    Download,
    FetchFile,
    FetchRuntime,
    PrepareFolder,
    RunCommands,
    Split,
    Stage,
    Step,
    TakeFile,
    TakeOutputs,
    Unpack,
    UnpackDebian,
    shortened,
)
from yarrik.rootfs import placed_trees
from yarrik.run.installed import OWN_PATH, out_of_sysroot, sysroot_of, tidied, without_leftovers
from yarrik.run.linked import (
    decode_linked,
    encode_linked,
    libraries_below,
    linked_in,
    put_libraries,
    static_libraries,
)
from yarrik.run.packages import encode_packages, split_packages
from yarrik.run.sandbox import INSIDE, THE_BOARDS, OverBound, Sandbox, Sees
from yarrik.run.sysroots import FOLDER_OF, LARGE, Layouts, needed, parts_below, put_part, raise_clashes
from yarrik.run.work_folders import WorkFolder
from yarrik.units import counted

if TYPE_CHECKING:
    from yarrik.sources import Archive

#: Most levels of folders that a recipe may install. Readers of filesystems give up at 128 or 200.
DEEPEST = 100
#: Where a kernel's build has its configuration.
_CONFIG = "build/.config"


class Context(msgspec.Struct):
    """What an action may use. `inputs` gives digests by label; `work` is an empty folder of its own, `place` that it will be.

    Commands write into that folder what they like. So nothing in it is opened by its path, only through `below`."""

    step: Step
    inputs: Mapping[str, str]
    store: Store
    sandbox: Sandbox
    place: WorkFolder
    log: BinaryIO
    jobs: int
    notes: list[str] = msgspec.field(default_factory=list)
    #: The code of each note that is a warning, empty for others.
    codes: list[str] = msgspec.field(default_factory=list)
    offline: bool = False
    redirect_hosts: Collection[str] = ()
    archives: Callable[[], Sequence[Archive]] = tuple
    began: float = msgspec.field(default_factory=time.monotonic)
    layouts: Layouts | None = None
    #: Reports what the step is doing; nothing of it is kept.
    tell: Callable[[str], None] = lambda text: None

    @property
    def work(self) -> Path:
        """The folder's path; it is there."""
        _ = self.place.below  # makes it
        return self.place.path

    @property
    def below(self) -> Folder:
        """The folder, held open."""
        return self.place.below

    @property
    def until(self) -> float | None:
        """The time, of the monotonic clock, at which the step's time is over."""
        seconds = self.step.bounds.seconds
        return self.began + seconds if seconds else None

    def note(self, text: str, code: str = "") -> None:
        """Something to be said at the end of the build; a warning with its code."""
        self.codes += [""] * (len(self.notes) - len(self.codes)) + [code]
        self.notes.append(text)

    def say(self, text: str) -> None:
        """Writes a line to the step's log."""
        self.log.write((text + "\n").encode())
        self.log.flush()


class CommandFailed(YarrikError):
    """A command of a step ended with an error."""


@singledispatch
def perform(action: Action, context: Context) -> dict[str, str]:
    """Does what the action says and returns the digests of its outputs by name."""
    # What actions of sources and products need takes long to load, and a build after few changes has none of one or the other.
    if isinstance(action, (Download, Clone, Unpack, UnpackDebian, ApplyPatches)):
        import yarrik.run.source_steps
    else:
        import yarrik.run.boot_steps
        import yarrik.run.product  # noqa: F401 (all register their actions)

    if perform.dispatch(type(action)) is perform.dispatch(object):
        raise NotImplementedError(type(action).__name__)
    return perform(action, context)


def taken(context: Context, label: str) -> str:
    """Takes the file of a place into the store, and makes sure that it is the one that was planned with."""
    place = context.step.places[label]
    digest = context.store.put_file(place)
    _same(context, digest, label, place)
    return digest


def blob_path(context: Context, label: str) -> Path:
    """A raw file: one that another step made, or one of the definition's, taken into the store."""
    made = context.inputs.get(label)
    return context.store.checked_path(made if made is not None else taken(context, label))


def _same(context: Context, digest: str, label: str, place: Path) -> None:
    if digest != context.step.files[label]:
        raise YarrikError(
            Trouble("SOURCE-MOVED", f"{place.name} was changed while the build was starting", Place(place),
                    why="the step would be recorded with other content than it used", remedy="build again"),
            "work",
        )  # fmt: skip


@perform.register(FetchFile)
def _fetch_file(action: FetchFile, context: Context) -> dict[str, str]:
    return {"file": taken(context, "source")}


@perform.register(TakeOutputs)
def _take_outputs(action: TakeOutputs, context: Context) -> dict[str, str]:
    tree = context.store.tree(context.inputs["files"])
    files = {entry.path: entry for entry in tree.files}
    collector = Collector()
    found: dict[str, str] = {}
    for name, path in action.outputs.items():
        entry = files.get(path.strip("/"))
        if entry is None:
            same = [other for other in files if other.rpartition("/")[2] == path.rpartition("/")[2]]
            collector.add(
                Trouble("OUTPUT-MISSING", f"the build of `{action.recipe}` left no file {path}",
                        context.step.marks.get(f"output {name}", Place()), why=f"it is to be the output `{name}`",
                        remedy=f"it left {same[0]}" if same else suggestion(path, files, most=8))
            )  # fmt: skip
            continue
        found[f"output:{name}"] = entry.content
        laid = Entry(f"{action.recipe}/{name}", "file", entry.mode, entry.size, entry.content)
        found[f"given:{name}"] = context.store.put_tree(Tree.of([Entry(action.recipe, "folder", 0o755, 0, ""), laid]))
    collector.raise_if_any("work")
    return found


@perform.register(TakeFile)
def _take_file(action: TakeFile, context: Context) -> dict[str, str]:
    digest = context.inputs["archive"]
    size = context.store.checked_path(digest).stat().st_size
    return {"tree": context.store.put_tree(Tree.of([Entry(action.name, "file", 0o644, size, digest)]))}


@perform.register(FetchRuntime)
def _fetch_runtime(action: FetchRuntime, context: Context) -> dict[str, str]:
    entries: dict[str, Entry] = {}
    for in_image in action.in_image:
        path = in_image.strip("/")
        digest = taken(context, in_image)
        if path.endswith(".so"):
            digest = _link_script(digest, action.in_image, context)
        size = context.store.checked_path(digest).stat().st_size
        mode = 0o644 if path.startswith("usr/include/") or path.endswith((".a", ".o", ".so")) else 0o755
        entries[path] = Entry(path, "file", mode, size, digest)
    for link, target in action.links.items():
        entries[link.strip("/")] = Entry(link.strip("/"), "link", 0o777, len(target.encode()), target)
    for path in list(entries):
        while "/" in path:
            path = path.rpartition("/")[0]
            entries[path] = Entry(path, "folder", 0o755, 0, "")
    files = context.store.put_tree(Tree.of(entries.values()))
    return {"files": files, **_handed_on(action.recipe, files, files, context)}


#: A library in a link script of GNU ld ("Implicit Linker Scripts" in its manual), by its whole path.
_IN_SCRIPT = lazy_pattern(rb"/[^\s()]*/([^\s()/]+)")
_LARGEST_SCRIPT = 64 << 10


def _link_script(digest: str, in_image: Sequence[str], context: Context) -> str:
    """The script with each library where it lies in the image; what is no script, as it is."""
    path = context.store.checked_path(digest)
    with path.open("rb") as file:
        text = file.read(_LARGEST_SCRIPT + 1)
    if not text.startswith(b"/* GNU ld script") or len(text) > _LARGEST_SCRIPT:
        return digest
    places = {place.rpartition("/")[2].encode(): place.encode() for place in in_image}
    return context.store.put_bytes(_IN_SCRIPT.sub(lambda match: places.get(match[1], match[0]), text))


@perform.register(PrepareFolder)
def _prepare_folder(action: PrepareFolder, context: Context) -> dict[str, str]:
    folder = context.step.places["source"]
    tree = context.store.snapshot(folder, plain=True, suffixes=action.suffixes)
    _same(context, tree.digest, "source", folder)
    return {"tree": tree.digest}


@perform.register(ConfigureKernel)
def _configure_kernel(action: ConfigureKernel, context: Context) -> dict[str, str]:
    from yarrik.run.kernel_config import base_problem, carried_options, line_options, lost_options, options

    lay_out_own_inputs(context, writable=("build",))
    run = command_runner(context, action.environment, "{step}/build", writable=("build",))
    if action.base:
        sources = {entry.path: entry.content for entry in context.store.tree(context.inputs["source"]).files}
        problem = base_problem(action.base, action.kernel_arch, sources, lambda digest: _text_of(context.store, digest),
                               context.step.marks.get("kernel.base", Place()), action.configs)  # fmt: skip
        if problem is not None:
            raise YarrikError(problem, "work")
        run((*action.make, action.base))
        first = context.below.read(_CONFIG)
    else:
        first = context.store.get_bytes(taken(context, "base"))
    labels = [f"fragment {Path(name).name}" for name in action.fragments]
    texts = {label: context.store.get_bytes(taken(context, label)).decode("utf-8", "replace") for label in labels}
    line = line_options(action.command_line, action.kernel_arch) + carried_options(action.built_in)
    line += "".join(f"\n{text}\n" for text in action.lines)
    more = "".join(f"\n{texts[label]}\n" for label in labels) + line
    context.below.write(_CONFIG, first + more.encode())
    run((*action.make, "olddefconfig"))
    final = context.below.text(_CONFIG)
    if action.lenient:
        return _configuration(context)
    collector = Collector()
    said = [(texts[label], context.step.places[label]) for label in labels]
    source = context.below.folder("source")
    for number, (text, file) in enumerate(said):
        # A later fragment has the last word on what it names too.
        later = {name for other, _ in [*said[number + 1 :], (line, file)] for name in options(other)}
        collector.extend(lost_options(text, file, final, source, later))
        value, where = options(text).get("CONFIG_CMDLINE", ('""', 0))
        if action.command_line and value != '""':
            place = Place(file, where, "CONFIG_CMDLINE")
            collector.add(
                Trouble("BOOT-LINE-TWICE", f"the fragment sets CONFIG_CMDLINE={value}, and the board has its own line built in",
                        place, why="only one of them can be in the kernel",
                        remedy="take it out of the fragment, and put its words into `kernel.arguments`")
            )  # fmt: skip
    mark = context.step.marks.get("lines" if action.lines else "boot.command-line-in", Place())
    collector.extend(lost_options(line, mark, final, source))
    source.close()
    collector.raise_if_any("work")
    return _configuration(context)


def _configuration(context: Context) -> dict[str, str]:
    digest, size = context.store.put_below(context.below, _CONFIG)
    return {"config": context.store.put_tree(Tree.of([Entry(".config", "file", 0o644, size, digest)]))}


def _text_of(store: Store, digest: str) -> str:
    return store.get_bytes(digest).decode("utf-8", "replace")


@perform.register(CollectLicences)
def _collect_licences(action: CollectLicences, context: Context) -> dict[str, str]:
    tree = context.store.tree(context.inputs["source"])
    files = {entry.path: entry for entry in tree.files}
    chosen: dict[str, Entry] = {}
    for pattern in action.files:
        found = fnmatch.filter(files, pattern)
        if not found:
            raise YarrikError(
                Trouble("LICENCE-FILE-MISSING", f"the sources of `{context.step.subject}` have no licence text {pattern}",
                        context.step.marks.get("licence-files", Place()), why="the text has to go along with what is shipped",
                        remedy=suggestion(pattern, [path for path in files if "/" not in path], most=12)),
                "work",
            )  # fmt: skip
        chosen |= {path: files[path] for path in found}
    folders = {path.rpartition("/")[0] for path in chosen if "/" in path}
    folders |= {"/".join(path.split("/")[:length]) for path in folders for length in range(1, path.count("/") + 1)}
    entries = [Entry(path, "folder", 0o755, 0, "") for path in sorted(folders)]
    return {"licences": context.store.put_tree(Tree.of([*entries, *chosen.values()]))}


@perform.register(RunCommands)
def _run_commands(action: RunCommands, context: Context) -> dict[str, str]:
    lay_out_own_inputs(context, action.writable)
    for name, text in action.files.items():
        if not context.below.is_folder(name.partition("/")[0]):
            context.below.make_folder(name.partition("/")[0])
        context.below.write(name, text.replace("{step}", context.sandbox.inside(context.work)).encode())
    run = command_runner(context, action.environment, action.folder, action.writable)
    for command in action.commands:
        try:
            run(command)
        except CommandFailed:
            if command[0].endswith("/configure"):
                _say_failed_test(action.folder.removeprefix("{step}/"), context)
            raise
    with context.below.folder("stage") as stage:
        tree = context.store.snapshot(stage, move=True)
    deep = next((entry.path for entry in tree.entries if entry.path.count("/") >= DEEPEST), None)
    if deep is not None:
        raise YarrikError(
            Trouble("STEP-TOO-DEEP", f"step `{context.step.name}` installed folders of more than {DEEPEST} levels",
                    why=f"no bootloader and few programs can follow them: /{shortened_path(deep)}",
                    remedy="let the build install a flatter tree; often such folders come from a loop in a script"),
            "work",
        )  # fmt: skip
    context.say(f"{counted(sum(1 for _ in tree.files), 'file')} installed")
    return {"files": tree.digest}


def _say_failed_test(folder: str, context: Context) -> None:
    """Adds to the log which test of a configure script failed, and what the compiler said of it."""
    from yarrik.run.configure_log import LOOKED_AT, failed_test

    try:
        with context.below.open(f"{folder}/config.log") as file:
            file.seek(max(0, os.fstat(file.fileno()).st_size - LOOKED_AT))
            text = file.read(LOOKED_AT).decode("utf-8", "replace")
    except (OSError, NotPlain):
        return
    found = failed_test(text)
    if found:
        context.say("config.log has:")
        for line in found:
            context.say(f"  {line}")


def shortened_path(path: str, most: int = 60) -> str:
    """The beginning of a path, with `…` where it goes on."""
    return path if len(path) <= most else path[: most - 1] + "…"


def lay_out_own_inputs(context: Context, writable: tuple[str, ...]) -> None:
    lay_out_inputs(context.inputs, context.store, context.sandbox, context.below, writable, context.layouts, context.work)


def lay_out_inputs(
    inputs: Mapping[str, str],
    store: Store,
    sandbox: Sandbox,
    below: Folder,
    writable: tuple[str, ...],
    layouts: Layouts | None = None,
    work: Path = Path(),
) -> None:
    """Each input goes into the folder that its label begins with: `given libtide` into `given`. Documents of sysroots and tools
    are laid out with all that they lead to; with `layouts`, for a step in `work`, what others have left is used again."""
    # Without a sandbox nothing keeps a command from writing where it should not, so it gets copies.
    safe = sandbox.bubblewrap is not None
    together: dict[str, list[tuple[str, Tree]]] = {}
    for label, digest in inputs.items():
        word, _, recipe = label.partition(" ")
        if word not in FOLDER_OF:
            together.setdefault(word, []).append((recipe, store.tree(digest)))
    shared: dict[str, list[str]] = {}
    for word, name in FOLDER_OF.items():
        tops = needed(inputs, word)
        if tops and layouts is not None and safe and name not in (*writable, *together):
            shared[name] = tops
        elif tops:
            parts = parts_below(store, tops)[0].values()
            together.setdefault(name, []).extend((part.recipe, store.tree(part.tree)) for part in parts)
    large: dict[str, Tree] = {}
    if layouts is not None and safe:
        kept = set(read_only_folders(writable)) - set(FOLDER_OF.values())
        alone = ((name, trees[0][1]) for name, trees in together.items() if len(trees) == 1 and name in kept)
        large = {name: tree for name, tree in alone if len(tree.entries) >= LARGE}
        together = {name: trees for name, trees in together.items() if name not in large}
    # Making a folder is a good part of what a small step costs: only those that are wanted.
    for name in dict.fromkeys(("build", "stage", "home", "tmp", *writable, *together)):
        below.make_folder(name)
    if "sysroot" in together:
        together["sysroot"] = placed_trees(together["sysroot"])
    raise_clashes(clash for trees in together.values() if len(trees) > 1 for clash in clashes(trees))
    for name, trees in together.items():
        with below.folder(name) as folder:
            for _, tree in trees:
                store.lay_out(tree, folder, writable=name in writable or not safe)
    if layouts is not None:
        for name, tree in large.items():
            layouts.lay_out_tree(store, name, tree, work, below)
        for name, tops in shared.items():
            layouts.lay_out(store, name, tops, work, below)


def sees_of(action: Action) -> Sees:
    """What of the host an action's commands see."""
    if isinstance(action, (RunCommands, ConfigureKernel)):
        return Sees(action.toolchain, action.programs)
    if isinstance(action, Stage):
        return Sees(action.toolchain)
    if isinstance(action, UnpackDebian):
        return Sees(programs=("patch",))
    return Sees(programs=("git",)) if isinstance(action, ApplyPatches) else Sees(THE_BOARDS)


def read_only_folders(writable: tuple[str, ...]) -> tuple[str, ...]:
    """Folders of a step, below `{step}`, that its commands may only read."""
    folders = ("source", "kernel", "initramfs", "sysroot", "tools", "given", "device-tree", "environment")
    return tuple(name for name in folders if name not in writable)


def command_runner(
    context: Context, environment: Mapping[str, str], folder: str, writable: tuple[str, ...]
) -> Callable[[tuple[str, ...]], None]:
    read_only = read_only_folders(writable)
    sees = sees_of(context.step.action)

    def run(command: tuple[str, ...]) -> None:
        try:
            code = context.sandbox.run(
                command, context.work, folder, environment, read_only, context.jobs, context.log, context.step.bounds,
                context.until, sees,
            )  # fmt: skip
        except OverBound as error:
            raise YarrikError(
                Trouble("STEP-OVER-LIMIT", f"step `{context.step.name}` was ended: `{Path(command[0]).name}` {error}",
                        why="something in it may hang or run in circles",
                        remedy=f"look at yarrik log {context.step.name}; if it is as it should be, raise `build.time-limit`, "
                               "`build.output-limit` or `build.process-limit` in the recipe"),
                "work",
            ) from error  # fmt: skip
        if code != 0:
            how = f"was ended by signal {-code}" if code < 0 else f"ended with exit code {code}"
            raise CommandFailed(Trouble("STEP-FAILED", f"`{Path(command[0]).name}` {how}"), "work")

    return run


@perform.register(Stage)
def _stage(action: Stage, context: Context) -> dict[str, str]:
    tree = out_of_sysroot(context.store.tree(context.inputs["files"]))
    collector = Collector()
    elves: dict[str, tuple[Entry, ElfFacts]] = {}
    # Without a sandbox, the folder of the step that built it lies beside this one's.
    own = (*(f"{INSIDE}/{name}/" for name in ("build", "home", "source", "stage", "sysroot")), f"{context.place.path.parent}/")
    lost = [entry.path for entry in tree.entries if f"/{entry.path}".startswith(own)]
    if lost:
        collector.add(
            Trouble(
                "PACKAGE-IN-BUILD-FOLDER",
                f"the build installs into a folder of its own: /{lost[-1]}",
                why="no such folder is on the board; DESTDIR comes before a path that leads into the build already",
                remedy="let its configuration name places on the board, like /usr/lib, as whole paths and without $DESTDIR",
            )
        )
    for entry in tree.files:
        name = context.store.checked(entry.content)
        with open(name, "rb") as file:
            head = file.read(8)
            foreign = foreign_in_archive(file, action.arch) if head == AR_MAGIC else foreign_program(file, head, action.arch)
        if foreign:
            collector.add(
                Trouble(
                    "PACKAGE-ARCH",
                    f"/{entry.path} {foreign}, and the board is {action.arch}",
                    why="it cannot run there, or be linked into what does",
                    remedy="let the recipe's build use $(CC) and $(AR), and build what runs here as `tools`",
                )
            )
        if head[:4] != MAGIC:
            continue
        try:
            facts = read_elf(name)
        except Damaged as error:
            context.note(f"/{entry.path}: {error}", "PACKAGE-ELF-DAMAGED")
            continue
        if facts is not None and facts.arch != action.arch:
            collector.add(
                Trouble(
                    "PACKAGE-ARCH",
                    f"/{entry.path} is built for {facts.arch}, and the board is {action.arch}",
                    why="it cannot run there",
                    remedy="let the recipe's build use $(CC) from its environment, and build tools that run here as `tools`",
                )
            )
        elif facts is not None and facts.kind in ("program", "library"):
            elves[entry.path] = (entry, facts)
    collector.raise_if_any("work")
    archives, linked = _static_links(action, context, tree, elves)
    if action.strip and elves:
        tree = _stripped(action, context, tree, [entry for entry, _ in elves.values()])
    tree = without_leftovers(tidied(tree, context.store), context.store)
    leaks = [f"/{entry.path}" for entry in tree.files if _holds(context.store.checked(entry.content), OWN_PATH)]
    if leaks:
        hold = "holds" if len(leaks) == 1 else "hold"
        context.note(f"{shortened(leaks, 3)} {hold} a path of the build, /step/…, which does not exist on the board",
                     "PACKAGE-PATH-LEAKED")  # fmt: skip
    files, sysroot = context.store.put_tree(tree), sysroot_of(tree, context.store).digest
    return {
        "files": files,
        "sysroot": sysroot,
        "archives": archives,
        "linked": linked,
        **_handed_on(action.recipe, sysroot, files, context),
    }


def _handed_on(recipe: str, sysroot: str, files: str, context: Context) -> dict[str, str]:
    """What others are built with: the documents of a recipe's sysroot and, as a tool, of its files, with what it needs."""
    store, inputs = context.store, context.inputs
    return {
        "needs": put_part(store, recipe, sysroot, needed(inputs, "needs")),
        "tools": put_part(store, recipe, files, needed(inputs, "tools")),
    }


def _static_links(action: Stage, context: Context, tree: Tree, elves: Mapping[str, tuple[Entry, ElfFacts]]) -> tuple[str, str]:
    """The digests of what is known of static libraries now, and of what of them is in ELF files."""
    store = context.store
    needs = needed(context.inputs, "archives")
    others = libraries_below(store, needs) if elves else []
    linked, untold = linked_in(action, elves, others, store)
    if untold:
        have = "has" if len(untold) == 1 else "have"
        names = shortened(sorted({one.path.rpartition("/")[2] for one in others}), 3)
        text = f"{shortened(['/' + path for path in untold], 3)} {have} no symbols any more: which licences came"
        text += f" with static libraries ({names}) cannot be told; let the build install unstripped, a later step strips"
        context.note(text, "PACKAGE-NO-SYMBOLS")
    own = static_libraries(action, tree, store)
    return put_libraries(store, own, needs), store.put_bytes(encode_linked(linked))


def _stripped(action: Stage, context: Context, tree: Tree, elves: list[Entry]) -> Tree:
    for name in ("stage", "home", "tmp"):
        context.below.make_folder(name)
    # Numbered copies: no name out of a package ever stands on a command line.
    copies = {f"{number}.elf": entry for number, entry in enumerate(elves)}
    for name, entry in copies.items():
        context.store.copy_out(entry.content, context.below, f"stage/{name}", 0o644)
    command = (*action.strip, "--strip-unneeded", *copies)
    code = context.sandbox.run(command, context.work, "{step}/stage", {}, (), 1, context.log, sees=sees_of(action))
    if code != 0:
        raise CommandFailed(Trouble("STEP-FAILED", f"`{action.strip[0]}` ended with exit code {code}"), "work")
    replaced: dict[str, Entry] = {}
    for name, entry in copies.items():
        digest, size = context.store.put_below(context.below, f"stage/{name}")
        replaced[entry.path] = Entry(entry.path, "file", entry.mode, size, digest)
    return Tree(tuple(replaced.get(entry.path, entry) for entry in tree.entries))


def _holds(file_name: str, word: bytes) -> bool:
    with open(file_name, "rb", buffering=0) as file:
        rest = b""
        while chunk := file.read(1 << 20):
            if word in rest + chunk:
                return True
            rest = chunk[-len(word) :]
    return False


@perform.register(Split)
def _split(action: Split, context: Context) -> dict[str, str]:
    tree = context.store.tree(context.inputs["files"])
    linked = decode_linked(context.store.get_bytes(context.inputs["linked"])) if "linked" in context.inputs else []
    packages, notes = split_packages(action, tree, lambda digest: read_elf(context.store.checked(digest)), linked)
    for note in notes:
        context.note(note, "PACKAGE-FILES-LEFT")
    return {"packages": context.store.put_bytes(encode_packages(packages)), "files": context.inputs["files"]}
