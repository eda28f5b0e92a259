"""From a product's definitions to its graph of steps."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from yarrik.arch import ARCHES, Arch
from yarrik.errors import Collector, Place, Trouble, YarrikError
from yarrik.model import Composition, Definition, PackageRule, Recipe, Workspace
from yarrik.plan.actions import (
    ConfigureKernel,
    FetchFile,
    FetchRuntime,
    PrepareFolder,
    RunCommands,
    Split,
    Stage,
    Unpack,
    WriteDisks,
)
from yarrik.plan.product import ProductSteps, kernel_form, line_in
from yarrik.plan.steps import Step
from yarrik.plan.surroundings import Surroundings
from yarrik.resolve import Node, Order, build_order
from yarrik.toolchain import Toolchain

#: Where a kernel's build leaves what modules from outside need to know of it.
KERNEL_HEADERS = "/usr/include/kernel"
#: Where device tree blobs of its own sources are installed.
KERNEL_BLOBS = "/usr/lib/device-trees"


@dataclass(frozen=True)
class Graph:
    """Steps in an order in which each comes after all it needs; `programs` are what the host has to have, and why."""

    product: str
    steps: tuple[Step, ...]
    order: Order
    programs: Mapping[str, tuple[Place, str]]

    def up_to(self, name: str) -> Graph:
        """A step with all that it needs, and nothing else."""
        steps = {step.name: step for step in self.steps}
        wanted: dict[str, None] = {}
        waiting = [name]
        while waiting:
            one = waiting.pop()
            if one not in wanted:
                wanted[one] = None
                waiting.extend(steps[one].needs)
        return Graph(self.product, tuple(step for step in self.steps if step.name in wanted), self.order, self.programs)

    @property
    def disks(self) -> tuple[str, ...]:
        write = next(step.action for step in self.steps if isinstance(step.action, WriteDisks))
        return tuple(disk.name for disk in write.disks)


def plan_product(workspace: Workspace, composition: Composition, surroundings: Surroundings) -> Graph:
    """The product's graph. Raises YarrikError with all that is wrong with what the definitions name."""
    return _Planner(workspace, composition, surroundings).run()


@dataclass
class _Planner:
    workspace: Workspace
    composition: Composition
    surroundings: Surroundings
    steps: dict[str, Step] = field(default_factory=dict)
    built: dict[Node, tuple[str, str]] = field(default_factory=dict)
    sysroots: dict[Node, tuple[str, str]] = field(default_factory=dict)
    split: dict[Node, str] = field(default_factory=dict)
    programs: dict[str, tuple[Place, str]] = field(default_factory=dict)
    collector: Collector = field(default_factory=Collector)
    _kernel_sources: tuple[str, str] | None = None

    def run(self) -> Graph:
        board, profile, image = self.composition.board, self.composition.profile, self.composition.image
        roots = [(name, f"named by the image {image.name}", image.place("packages")) for name in image.value.packages]
        roots.append((profile.value.c_library, f"C library of the profile {profile.name}", profile.place("c-library")))
        roots.append((profile.value.init, f"init of the profile {profile.name}", profile.place("init")))
        kernel = self._kernel_recipe()
        roots.append((kernel, f"kernel of the board {board.name}", board.place("kernel", "recipe")))
        order = build_order(self.workspace, [(name, place) for name, _, place in roots])
        # Modules come behind everything else: they need the kernel, whichever the board has, and nothing needs them.
        for node in sorted(
            order.nodes, key=lambda node: self.workspace.recipes[node.recipe].value.build.using == "kernel-module"
        ):
            try:
                self._recipe(node, order)
            except YarrikError as error:
                self.collector.extend(error.troubles)
        self.collector.raise_if_any()
        wanted = tuple((self._package_name(name, place), because) for name, because, place in roots)
        version = self.workspace.recipe(kernel, board.place("kernel", "recipe")).value.version
        ProductSteps(self.composition, self.surroundings, self._add, self.collector, version, self._kernel_sources).add(
            wanted, self.split
        )
        self.collector.raise_if_any()
        return Graph(self.composition.name, tuple(self.steps.values()), order, self.programs)

    def _kernel_recipe(self) -> str:
        """The recipe of the board's kernel: the preferred one, or the first other that a shelf has."""
        kernel = self.composition.board.value.kernel
        return next((name for name in (kernel.recipe, *kernel.otherwise) if name in self.workspace.recipes), kernel.recipe)

    def _add(self, step: Step) -> Step:
        return self.steps.setdefault(step.name, step)

    def _package_name(self, name: str, place: Place) -> str:
        """The package that a requirement means: one of that name, else the only or first one of the recipe."""
        recipe = self.workspace.recipe(name, place)
        packages = recipe.value.package
        return name if not packages or name in packages else next(iter(packages))

    @property
    def _clock(self) -> int:
        return int(self.composition.profile.value.clock.timestamp())

    # Recipes

    def _recipe(self, node: Node, order: Order) -> None:
        recipe = self.workspace.recipes[node.recipe]
        using = recipe.value.build.using
        if using == "toolchain-runtime":
            self._runtime(node, recipe)
            return
        source = self._sources(recipe)
        if using == "kernel":
            self._kernel_sources = source
        if using == "kernel":
            files = self._kernel(node, recipe, source)
        elif using == "kernel-module":
            files = self._module(node, recipe, source)
        else:
            files = self._commands(node, recipe, source, order)
        toolchain = self.surroundings.toolchain(node.side)
        strip: tuple[str, ...] = ()
        if self.composition.profile.value.strip and node.side == "board" and not using.startswith("kernel"):
            strip = (toolchain.prefix + "strip",)
            self.programs.setdefault(strip[0], (recipe.place("build"), "it takes debug symbols out of what is shipped"))
        stage = self._add(
            Step(
                "stage",
                str(node),
                Stage(strip=strip, arch=toolchain.arch, toolchain=toolchain.shown),
                inputs={"files": files},
            )
        )
        self.built[node] = (stage.name, "files")
        self.sysroots[node] = (stage.name, "sysroot")
        if node.side == "board":
            self._split(node, recipe, (stage.name, "files"))

    def _runtime(self, node: Node, recipe: Definition[Recipe]) -> None:
        toolchain = self.surroundings.toolchain(node.side)
        fetch = self._add(
            Step(
                "fetch",
                str(node),
                FetchRuntime(in_image=tuple(file.in_image for file in toolchain.runtime)),
                files={file.in_image: file.digest for file in toolchain.runtime},
                places={file.in_image: Path(file.here) for file in toolchain.runtime},
            )
        )
        self.built[node] = self.sysroots[node] = (fetch.name, "files")
        if node.side == "board":
            self._split(node, recipe, (fetch.name, "files"))

    def _split(self, node: Node, recipe: Definition[Recipe], files: tuple[str, str]) -> None:
        value = recipe.value
        step = self._add(
            Step(
                "split",
                str(node),
                Split(
                    recipe=recipe.name,
                    version=value.version,
                    licence=value.licence,
                    summary=value.summary,
                    packages=value.package or self._usual_packages(recipe),
                ),
                inputs={"files": files},
            )
        )
        self.split[node] = step.name

    def _usual_packages(self, recipe: Definition[Recipe]) -> dict[str, PackageRule]:
        """One package with everything; a kernel's has what the board needs, and others have what outside modules are built
        against, and device tree blobs of the kernel's own sources."""
        more = {}
        if recipe.value.build.using == "kernel" and self._wants_modules():
            summary = "what modules from outside are built against"
            more[f"{recipe.name}-headers"] = PackageRule(files=(f"{KERNEL_HEADERS}/**",), summary=summary)
        if recipe.value.build.device_trees:
            summary = "device trees of the kernel's own sources"
            more[f"{recipe.name}-device-trees"] = PackageRule(files=(f"{KERNEL_BLOBS}/**",), summary=summary)
        if not more:
            return {recipe.name: PackageRule(files=("**",))}
        own = ("/boot/**", "/lib/**") if self._wants_modules() else ("/boot/**",)
        return {recipe.name: PackageRule(files=own), **more}

    def _sources(self, recipe: Definition[Recipe]) -> tuple[str, str]:
        """The step and output that hold the recipe's prepared sources."""
        sources = recipe.value.source
        place = recipe.place("source")
        if len(sources) != 1:
            raise YarrikError(
                Trouble(
                    "SOURCE-COUNT",
                    f"`{recipe.name}` has {len(sources) or 'no'} sources, and needs one",
                    recipe.place("source") if sources else Place(recipe.file),
                    remedy='write one [[source]] with `path = "src"` or `host-file = "…"`',
                )
            )
        source = sources[0]
        if bool(source.path) == bool(source.host_file):
            raise YarrikError(
                Trouble(
                    "SOURCE-FORM",
                    f"the source of `{recipe.name}` must have either `path` or `host-file`",
                    place,
                    remedy="keep the one that tells where the sources are",
                )
            )
        if source.path:
            folder = recipe.folder_of("source") / source.path
            tree = self.surroundings.source_tree(folder, (), place)
            step = Step(
                "prepare",
                recipe.name,
                PrepareFolder(),
                files={"source": tree.digest},
                places={"source": folder},
                predicted={"tree": tree.digest},
            )
            return self._add(step).name, "tree"
        digest = self.surroundings.host_file(recipe.name, source.host_file, source.debian_package, place)
        if source.sha256 and source.sha256 != digest:
            raise YarrikError(
                Trouble(
                    "SOURCE-DIGEST",
                    f"{source.host_file} has SHA-256 {digest}, and the recipe asks for {source.sha256}",
                    recipe.place("source", "0", "sha256"),
                    why="it is not the file that the recipe was written for",
                    remedy="provide the right file, or correct the digest",
                )
            )
        fetch = self._add(
            Step(
                "fetch",
                recipe.name,
                FetchFile(sha256=digest),
                files={"source": digest},
                places={"source": Path(source.host_file)},
                predicted={"file": digest},
            )
        )
        prepare = Step(
            "prepare", recipe.name, Unpack(name=Path(source.host_file).name), inputs={"archive": (fetch.name, "file")}
        )
        return self._add(prepare).name, "tree"

    def _commands(self, node: Node, recipe: Definition[Recipe], source: tuple[str, str], order: Order) -> tuple[str, str]:
        build = recipe.value.build
        toolchain = self.surroundings.toolchain(node.side)
        environment = self._environment(node, toolchain)
        if build.using == "make":
            make: tuple[str, ...] = (
                "make",
                "-j{jobs}",
                f"CC={environment['CC']}",
                f"AR={environment['AR']}",
                f"OBJCOPY={environment['OBJCOPY']}",
            )
            make += tuple(f"{key}={value}" for key, value in sorted(build.variables.items()))
            commands: tuple[tuple[str, ...], ...] = (
                (*make, *build.goals),
                (*make, "DESTDIR={step}/stage", *build.install_goals),
            )
        else:
            environment |= {"DESTDIR": "{step}/stage"} | dict(build.variables)
            commands = tuple(("sh", "-e", "-c", text) for text in build.commands)
        inputs: dict[str, tuple[str, str]] = {"source": source}
        for needed in order.closure(node):
            inputs[f"sysroot {needed.recipe}"] = self.sysroots[needed]
        for tool in order.tools[node]:
            for needed in [*order.closure(tool), tool]:
                inputs[f"tools {needed.recipe}"] = self.built[needed]
        step = self._add(
            Step(
                "build",
                str(node),
                RunCommands(
                    commands=commands,
                    environment=environment,
                    folder="{step}/source",
                    writable=("source",),
                    toolchain=toolchain.shown,
                ),
                inputs=inputs,
                places=dict(self.steps[source[0]].places),
            )
        )
        return step.name, "files"

    def _environment(self, node: Node, toolchain: Toolchain) -> dict[str, str]:
        profile, board = self.composition.profile.value, self.composition.board.value
        flags = [*profile.c_flags, *board.toolchain.c_flags] if node.side == "board" else ["-O2"]
        links = list(profile.link_flags) if node.side == "board" else []
        sysroot = "{step}/sysroot/usr"
        compiler = toolchain.prefix + "gcc" if toolchain.prefix else Path(toolchain.programs[0]).name
        return {
            "CC": compiler,
            "AR": toolchain.prefix + "ar",
            "OBJCOPY": toolchain.prefix + "objcopy",
            "CFLAGS": " ".join(
                [*flags, "-ffile-prefix-map={step}/source=.", "-ffile-prefix-map={step}=.", f"-I{sysroot}/include"]
            ),
            "LDFLAGS": " ".join([*links, f"-L{sysroot}/lib", f"-Wl,-rpath-link,{sysroot}/lib"]),
            "PREFIX": "/usr",
            "SOURCE_DATE_EPOCH": str(self._clock),
        }

    def _kernel(self, node: Node, recipe: Definition[Recipe], source: tuple[str, str]) -> tuple[str, str]:
        board = self.composition.board
        kernel = board.value.kernel
        toolchain = self.surroundings.toolchain(node.side)
        arch = ARCHES[toolchain.arch]
        for program in ("make", "gcc", "bc", "bison", "flex"):
            self.programs.setdefault(program, (recipe.place("build", "using"), "the kernel's own build needs it"))
        environment = self._kernel_environment()
        make = self._kernel_make(toolchain, "source")
        form = kernel_form(board, arch)
        fragments = [board.folder_of("kernel", "fragments") / name for name in kernel.fragments]
        place = board.place("kernel", "fragments")
        given = {f"fragment {file.name}": (file, place) for file in fragments}
        if kernel.base_file:
            given["base"] = (board.folder_of("kernel", "base-file") / kernel.base_file, board.place("kernel", "base-file"))
        configure = self._add(
            Step(
                "configure",
                str(node),
                ConfigureKernel(
                    make=make,
                    base="" if kernel.base_file else kernel.base,
                    fragments=kernel.fragments,
                    command_line=line_in(self.composition, "kernel"),
                    kernel_arch=arch.kernel,
                    built_in=bool(kernel.built_in),
                    environment=environment,
                    toolchain=toolchain.shown,
                ),
                files={label: self.surroundings.file_digest(file, where) for label, (file, where) in given.items()},
                inputs={"source": source},
                places={label: file for label, (file, _) in given.items()},
                marks={"boot.command-line-in": board.place("boot", "command-line-in")},
            )
        )
        build = self._add(
            Step(
                "build",
                str(node),
                RunCommands(
                    commands=(
                        (*make, "-j{jobs}", form),
                        ("install", "-D", "-m", "644", f"arch/{arch.kernel}/boot/{form}", f"{{step}}/stage/boot/{form}"),
                        ("install", "-m", "644", ".config", f"{{step}}/stage/boot/{form}.config"),
                        *self._module_commands(make),
                        *_blob_commands(make, arch, recipe),
                    ),
                    environment=environment,
                    folder="{step}/build",
                    writable=("build",),
                    toolchain=toolchain.shown,
                ),
                inputs={"source": source, "build": (configure.name, "config"), **self._built_in()},
            )
        )  # fmt: skip
        return build.name, "files"

    def _built_in(self) -> dict[str, tuple[str, str]]:
        """The folder that becomes the kernel's own initramfs, as an input of its build."""
        board = self.composition.board
        if not board.value.kernel.built_in:
            return {}
        place = board.place("kernel", "built-in")
        folder = board.folder_of("kernel", "built-in") / board.value.kernel.built_in
        tree = self.surroundings.source_tree(folder, (), place)
        step = Step(
            "prepare",
            f"initramfs in the kernel of {board.name}",
            PrepareFolder(),
            files={"source": tree.digest},
            places={"source": folder},
            predicted={"tree": tree.digest},
        )
        return {"initramfs": (self._add(step).name, "tree")}

    def _wants_modules(self) -> bool:
        """Whether the kernel is configured with modules; the smallest bases have none unless a fragment asks for them.

        `.config` has the last word when the kernel is built."""
        board = self.composition.board
        kernel = board.value.kernel
        if kernel.base_file or kernel.base not in ("tinyconfig", "allnoconfig"):
            return True
        folder = board.folder_of("kernel", "fragments")
        files = [folder / name for name in kernel.fragments if (folder / name).is_file()]
        return any("CONFIG_MODULES=y" in file.read_text(encoding="utf-8", errors="replace") for file in files)

    def _module_commands(self, make: tuple[str, ...]) -> tuple[tuple[str, ...], ...]:
        """What builds and installs modules, and what recipes for outside modules need to know of the kernel.

        What belongs to them (modules.dep and its companions) is written when the root filesystem is put together."""
        if not self._wants_modules():
            return ()
        guard = 'grep -q "^CONFIG_MODULES=y" .config || exit 0; '
        install = ("INSTALL_MOD_PATH={step}/stage", "INSTALL_MOD_STRIP=1", "DEPMOD=true")
        tidy = 'rm -f "$0"/lib/modules/*/build "$0"/lib/modules/*/source'
        return (
            ("sh", "-e", "-c", guard + '"$@" modules; "$@" modules_install', "sh", *make, "-j{jobs}", *install),
            ("sh", "-e", "-c", guard + tidy, "{step}/stage"),
            ("install", "-D", "-m", "644", "Module.symvers", f"{{step}}/stage{KERNEL_HEADERS}/Module.symvers"),
            ("install", "-m", "644", ".config", f"{{step}}/stage{KERNEL_HEADERS}/config"),
        )

    def _module(self, node: Node, recipe: Definition[Recipe], source: tuple[str, str]) -> tuple[str, str]:
        """A module from outside of the kernel's tree, built against the board's kernel."""
        known = next((node for node in self.built if self.workspace.recipes[node.recipe].value.build.using == "kernel"), None)
        if known is None or self._kernel_sources is None or not self._wants_modules():
            why = "no kernel is built from source" if known is None else "its configuration has no modules"
            raise YarrikError(
                Trouble("KERNEL-NO-MODULES", f"`{recipe.name}` is a kernel module, and {why} for the board",
                        recipe.place("build", "using"), why="there is nothing that it could be built against",
                        remedy="add CONFIG_MODULES=y to one of the board's `kernel.fragments`")
            )  # fmt: skip
        toolchain = self.surroundings.toolchain(node.side)
        make = self._kernel_make(toolchain, "kernel")
        outside = (*make, "M={step}/source")
        step = self._add(
            Step(
                "build",
                str(node),
                RunCommands(
                    commands=(
                        (*make, "-j{jobs}", "modules_prepare"),
                        ("cp", f"{{step}}/sysroot{KERNEL_HEADERS}/Module.symvers", "{step}/build/Module.symvers"),
                        (*outside, "-j{jobs}", "modules"),
                        (*outside, "INSTALL_MOD_PATH={step}/stage", "INSTALL_MOD_STRIP=1", "DEPMOD=true", "modules_install"),
                    ),
                    environment=self._kernel_environment(),
                    folder="{step}/build",
                    writable=("source", "build"),
                    toolchain=toolchain.shown,
                ),
                inputs={
                    "source": source,
                    "kernel": self._kernel_sources,
                    "build": (f"configure {known}", "config"),
                    f"sysroot {known.recipe}": self.sysroots[known],
                },
                places=dict(self.steps[source[0]].places),
            )
        )
        return step.name, "files"

    def _kernel_make(self, toolchain: Toolchain, folder: str) -> tuple[str, ...]:
        arch = ARCHES[toolchain.arch]
        return (
            "make",
            "-C",
            f"{{step}}/{folder}",
            "O={step}/build",
            f"ARCH={arch.kernel}",
            f"CROSS_COMPILE={toolchain.prefix}",
        )

    def _kernel_environment(self) -> dict[str, str]:
        return {
            "SOURCE_DATE_EPOCH": str(self._clock),
            "KBUILD_BUILD_TIMESTAMP": f"@{self._clock}",
            "KBUILD_BUILD_USER": "yarrik",
            "KBUILD_BUILD_HOST": "yarrik",
            "KBUILD_BUILD_VERSION": "1",
        }


def _blob_commands(make: tuple[str, ...], arch: Arch, recipe: Definition[Recipe]) -> tuple[tuple[str, ...], ...]:
    """What makes and installs device tree blobs of the kernel's own sources."""
    names = recipe.value.build.device_trees
    install = tuple(
        ("install", "-D", "-m", "644", f"arch/{arch.kernel}/boot/dts/{name}", f"{{step}}/stage{KERNEL_BLOBS}/{name}")
        for name in names
    )
    return ((*make, "-j{jobs}", *names), *install) if names else ()
