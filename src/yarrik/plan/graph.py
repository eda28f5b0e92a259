"""From a product's definitions to its graph of steps."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from functools import cached_property
from pathlib import Path
from typing import Literal

import msgspec
import msgspec.structs
from msgspec.structs import replace

from yarrik.arch import ARCHES, Arch
from yarrik.errors import Collector, Place, Trouble, YarrikError, suggestion
from yarrik.model import FIRST_BOOT_PACKAGE, Build, Composition, Definition, PackageRule, Recipe, Source, output_of
from yarrik.plan.actions import (
    ARCHIVE,
    ApplyPatches,
    CollectLicences,
    ConfigureKernel,
    Download,
    FetchFile,
    FetchRuntime,
    RunCommands,
    Split,
    Stage,
    TakeOutputs,
    UnpackDebian,
)
from yarrik.plan.bootloader import BootloaderSteps, loader_folder
from yarrik.plan.build_systems import BUILD_SYSTEMS, Setting, with_options, with_words
from yarrik.plan.known_choices import unknown
from yarrik.plan.product import FromRecipes, OwnSteps, ProductSteps, kernel_form, line_in, root_choices
from yarrik.plan.recipe_commands import bounds_of, build_commands, setting_of, with_paths
from yarrik.plan.recipe_sources import clone_step, download_steps, taken_in
from yarrik.plan.step_graph import Graph
from yarrik.plan.steps import UNBOUND, Step, folder_step
from yarrik.plan.surroundings import Surroundings
from yarrik.resolve import (
    KERNEL_BLOBS,
    KERNEL_HEADERS,
    Answer,
    Node,
    Order,
    Relation,
    Settled,
    Side,
    Thing,
    board_outputs,
    build_order,
    locale_package,
    outputs_beside,
    package_rules,
    wants_modules,
)
from yarrik.services import asked_services
from yarrik.sources import DEBIAN_SCHEME, wanted_files
from yarrik.toolchain import RUNTIME_PACKAGES, DevelopmentFiles, Toolchain, runtime_package
from yarrik.units import parse_size
from yarrik.versions import parse_requirement


def plan_product(
    answer: Answer, surroundings: Surroundings, accounts: Settled, further_accounts: Mapping[str, Settled] | None = None
) -> Graph:
    """The product's graph, with the accounts that may be in its image, and in further ones by their names. Raises YarrikError
    with all that is wrong with what the definitions name."""
    return _Planner(answer, surroundings, accounts, further_accounts or {}).run()


class _Planner(msgspec.Struct, dict=True):
    answer: Answer
    surroundings: Surroundings
    accounts: Settled
    further_accounts: Mapping[str, Settled]
    steps: dict[str, Step] = msgspec.field(default_factory=dict)
    built: dict[Node, tuple[str, str]] = msgspec.field(default_factory=dict)
    sysroots: dict[Node, tuple[str, str]] = msgspec.field(default_factory=dict)
    archives: dict[Node, tuple[str, str]] = msgspec.field(default_factory=dict)
    split: dict[Node, str] = msgspec.field(default_factory=dict)
    licences: dict[str, str] = msgspec.field(default_factory=dict)
    #: The outputs of each recipe by name, as step and output: the file, and the tree that lays it out.
    outputs_of: dict[Node, dict[str, str]] = msgspec.field(default_factory=dict)
    programs: dict[str, tuple[Place, str]] = msgspec.field(default_factory=dict)
    collector: Collector = msgspec.field(default_factory=Collector)
    _settings: dict[Side, Setting] = msgspec.field(default_factory=dict)
    _kernel_sources: tuple[str, str] | None = None
    _recipe_now: Recipe | None = None

    @property
    def composition(self) -> Composition:
        return self.answer.composition

    def run(self) -> Graph:
        order = build_order(self.answer)
        # Modules come behind everything else: they need the kernel, whichever the board has, and nothing needs them.
        for node in sorted(order.nodes, key=lambda node: self.answer.recipe(node).value.build.using == "kernel-module"):
            try:
                self._recipe(node, order)
            except YarrikError as error:
                self.collector.extend(error.troubles)
        self.collector.raise_if_any()
        self._recipe_now = None
        first, given, board = len(self.steps), self._given_to_product(), self.composition.board
        wanted = {"": self._wanted(self.composition, self._kernel_recipe())}
        wanted |= {one.name: self._wanted(one.composition, "") for one in self.composition.more}
        carries = bool(board.value.kernel.built_in_image)
        ProductSteps(self.composition, self.surroundings, self._add, self.collector, given, self.output, self._packages_of).add(
            *root_choices(self.composition, {"": self.accounts, **self.further_accounts}, wanted),
            self._before_kernel(given.split) if carries else given.split,
        )
        outputs = {text: self.output(text, place()) for text, place in board_outputs(board)}
        self.collector.raise_if_any()
        own = None if carries else OwnSteps(first, replace(given, outputs=outputs), wanted)
        beside = outputs_beside(board.value, outputs)
        return Graph(self.composition.name, tuple(self._in_order()), order.nodes, self.programs, beside, own)

    def _given_to_product(self) -> FromRecipes:
        return FromRecipes(
            self.composition.recipe(self._kernel_recipe()).value.version,
            self._kernel_sources,
            {step.subject: name for name, step in self.steps.items() if isinstance(step.action, ConfigureKernel)},
            {node.recipe: step for node, step in self.split.items()},  # all of them for the board
            self.licences,
            tuple(asked_services(self.answer)),
        )

    def _packages_of(self, recipe: str) -> Iterable[str]:
        return package_rules(self.answer.recipe(Node(recipe, "board")), self.composition)

    def _in_order(self) -> Iterator[Step]:
        """The steps as they were added; only what the kernel is to carry is added behind it, and comes before it here."""
        if not self.composition.board.value.kernel.built_in_image:
            yield from self.steps.values()
            return
        done: set[str] = set()
        for name in self.steps:
            waiting = [name]
            while waiting:
                missing = [one for one in self.steps[waiting[-1]].needs if one not in done]
                if missing:
                    waiting.extend(reversed(missing))
                elif waiting[-1] in done:
                    waiting.pop()
                else:
                    done.add(waiting[-1])
                    yield self.steps[waiting.pop()]

    def _before_kernel(self, split: Mapping[str, str]) -> dict[str, str]:
        """Those of the steps that yield packages that do not wait for the kernel: what it carries can be made of these."""
        carrying = {step.name for step in self.steps.values() if "initramfs" in step.inputs}
        behind: dict[str, bool] = {}

        def waits(name: str) -> bool:
            waiting = [name]
            while waiting:
                step = self.steps.get(waiting[-1])
                needs = step.needs if step is not None else ()
                unknown_yet = [one for one in needs if one not in behind]
                if waiting[-1] in behind or not unknown_yet:
                    one = waiting.pop()
                    behind.setdefault(one, one in carrying or any(behind[need] for need in needs))
                else:
                    waiting.extend(unknown_yet)
            return behind[name]

        return {recipe: step for recipe, step in split.items() if not waits(step)}

    def _wanted(self, composition: Composition, kernel: str) -> tuple[tuple[str, str], ...]:
        """The packages that somebody asks for or recommends in an image, with the reason; the rest follows from these. Without
        a `kernel` it has none."""
        board, profile, image = composition.board, composition.profile, composition.image
        asked = [(name, f"named by the image {image.name}") for name in image.value.packages]
        if kernel and self.answer.c_library is None:  # others get it with the first program that is linked with it
            asked.append((profile.value.c_library, f"C library of the profile {profile.name}"))
        asked.append((profile.value.init, f"init of the profile {profile.name}"))
        if image.value.asks_for_first_boot:
            asked.append((FIRST_BOOT_PACKAGE, f"first boot of the image {image.name}"))
        locale = locale_package(composition, image.value)
        if locale:
            asked.append((locale, f"locale of the image {image.name}"))
        if kernel:
            asked.append((kernel, f"kernel of the board {board.name}"))
        found: list[tuple[str, str]] = []
        groups: list[str] = []
        for text, because in asked:
            name = parse_requirement(text).name
            if name.startswith("@"):
                groups.append(name.removeprefix("@"))
            else:
                found.append((self.answer.package_for(name), because))
        reached = self._reached([name for name, _ in found], groups) if self.composition.product.value.more_image else None
        for link in self.answer.links:
            recommended = link.relation is Relation.RECOMMENDED
            if reached is not None and link.source not in reached:
                continue  # it belongs to another image of the product
            if link.target.kind == "package" and (link.source.kind == "group" or recommended):
                how = "recommended by" if recommended else "in the group"
                found.append((link.target.name, f"{how} {link.source.name}"))
        known: dict[str, str] = {}
        for name, because in found:
            known.setdefault(name, because)
        return tuple(known.items())

    def _reached(self, packages: Iterable[str], groups: Iterable[str]) -> set[Thing]:
        """All that these packages and groups lead to on the board."""
        following: dict[Thing, list[Thing]] = {}
        for link in self.answer.links:
            if link.relation in (Relation.RUN_TIME, Relation.RECOMMENDED) or link.source.kind == "group":
                following.setdefault(link.source, []).append(link.target)
        waiting = [*(Thing("package", name) for name in packages), *(Thing("group", name) for name in groups)]
        reached = set(waiting)
        while waiting:
            for one in following.get(waiting.pop(), ()):
                if one not in reached:
                    reached.add(one)
                    waiting.append(one)
        return reached

    def _kernel_recipe(self) -> str:
        """The recipe of the board's kernel: the preferred one, or the first other that a shelf has."""
        kernel = self.composition.board.value.kernel
        known = self.composition.workspace.shelved["recipe"]
        return next((name for name in (kernel.recipe, *kernel.otherwise) if name in known), kernel.recipe)

    def _add(self, step: Step) -> Step:
        recipe = self._recipe_now
        if recipe is not None:
            bounds = bounds_of(recipe.build) if isinstance(step.action, (RunCommands, ConfigureKernel)) else UNBOUND
            if recipe.private or bounds is not UNBOUND:  # hardly ever, and copying takes time
                step = msgspec.structs.replace(step, bounds=bounds, private=recipe.private)
        return self.steps.setdefault(step.name, step)

    @property
    def _clock(self) -> int:
        return int(self.composition.profile.value.clock.timestamp())

    # Recipes

    def _recipe(self, node: Node, order: Order) -> None:
        recipe = self.answer.recipe(node)
        using = recipe.value.build.using
        wrong = unknown("build system", using, recipe.place("build", "using"))
        if wrong is not None:
            raise YarrikError(wrong)
        if using == "toolchain":
            raise YarrikError(
                Trouble("TOOLCHAIN-AS-PACKAGE", f"`{recipe.name}` is a compiler, and the product asks for it like a package",
                        recipe.place("build", "using"), why="a compiler is unpacked for the build and yields no packages",
                        remedy="take it out of packages, needs and tools, and name it in a board's `toolchain.recipe`")
            )  # fmt: skip
        self._recipe_now = recipe.value
        if using == "toolchain-runtime":
            self._runtime(node, recipe)
            return
        source = self._patched(node, recipe, self._sources(node, recipe))
        if recipe.value.licence_files and node.side == "board":
            self._licences(node, recipe, source)
        if using == "kernel":
            self._kernel_sources = source
        if using == "kernel":
            files = self._kernel(node, recipe, source)
        elif using == "bootloader":
            files = self._bootloader(node, recipe, source)
        elif using == "kernel-module":
            files = self._module(node, recipe, source)
        else:
            files = self._commands(node, recipe, source, order)
        self.outputs_of[node] = self._outputs(node, recipe, files)
        if self._only_outputs(node, order):
            return
        toolchain = self.surroundings.toolchain(node.side)
        strip: tuple[str, ...] = ()
        if self.composition.profile.value.strip and node.side == "board" and BUILD_SYSTEMS[using].strips:
            strip = (toolchain.prefix + "strip",)
            self.programs.setdefault(strip[0], (recipe.place("build"), "it takes debug symbols out of what is shipped"))
        stage = self._add(
            Step(
                "stage",
                str(node),
                Stage(
                    strip=strip,
                    arch=toolchain.arch,
                    toolchain=toolchain.shown,
                    recipe=recipe.name,
                    version=recipe.value.version,
                    licence=recipe.value.licence,
                    # A C library of its own is linked with no other.
                    runtime=self._runtime_recipe if node.side == "board" and not recipe.value.build.loader else None,
                ),
                inputs={
                    "files": files,
                    **{f"archives {one.recipe}": self.archives[one] for one in order.needs[node] if one in self.archives},
                    **self._needed(order.needs[node]),
                    **(self._needed(order.needs[node], "tools") if node.side == "host" else {}),
                },
            )
        )
        self.built[node] = (stage.name, "files")
        self.sysroots[node] = (stage.name, "sysroot")
        self.archives[node] = (stage.name, "archives")
        if node.side == "board":
            self._split(node, recipe, {"files": (stage.name, "files"), "linked": (stage.name, "linked")})

    @cached_property
    def _runtime_recipe(self) -> tuple[str, str, str] | None:
        """Name, version and licence of the recipe that brings the toolchain's C library, if the board's programs have that."""
        name = parse_requirement(self.composition.profile.value.c_library).name
        if name not in self.composition.workspace.shelved["recipe"]:
            return None
        recipe = self.composition.recipe(name)
        return (name, recipe.value.version, recipe.value.licence) if recipe.value.build.using == "toolchain-runtime" else None

    def _runtime(self, node: Node, recipe: Definition[Recipe]) -> None:
        toolchain = self.surroundings.toolchain(node.side)
        place = recipe.place("build", "using")
        asked = {key for key in RUNTIME_PACKAGES if self.answer.brings(runtime_package(key, recipe.name))}
        apart = {key for key, one in RUNTIME_PACKAGES.items() if one.names}
        development = self.surroundings.development(node.side) if asked & apart else DevelopmentFiles((), ())
        for key in sorted(asked - {file.package for file in (*toolchain.runtime, *development.files)}):
            name = runtime_package(key, recipe.name)
            self.collector.add(
                Trouble("TOOLCHAIN-RUNTIME", f"the toolchain {toolchain.shown} has nothing for the package `{name}`", place,
                        why=f"{RUNTIME_PACKAGES[key].summary}: the image, or a package in it, asks for it",
                        remedy="take it out of `packages` and `needs`, or take a toolchain that has it")
            )  # fmt: skip
        taken = [file for file in toolchain.runtime if file.digest or file.package in asked]
        taken += development.files
        fetch = self._add(
            Step(
                "fetch",
                str(node),
                FetchRuntime(
                    recipe=recipe.name, in_image=tuple(file.in_image for file in taken), links=dict(development.links)
                ),
                files={file.in_image: file.digest or self.surroundings.file_digest(Path(file.here), place) for file in taken},
                places={file.in_image: Path(file.here) for file in taken},
            )
        )
        self.built[node] = self.sysroots[node] = (fetch.name, "files")
        if node.side == "board":
            held: dict[str, list[str]] = {}
            for file in taken:
                held.setdefault(runtime_package(file.package, recipe.name), []).append(file.in_image)
            for key in sorted(asked & apart):
                held.setdefault(runtime_package(key, recipe.name), []).extend(path for path, _ in development.links)
            rules = self._packages(node, recipe, only=None if recipe.value.package else held)
            if not recipe.value.package:
                rules = {name: replace(rules[name], files=tuple(files)) for name, files in held.items()}
            self._split(node, recipe, {"files": (fetch.name, "files")}, rules)

    def _split(
        self,
        node: Node,
        recipe: Definition[Recipe],
        inputs: dict[str, tuple[str, str]],
        rules: dict[str, PackageRule] | None = None,
    ) -> None:
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
                    packages=rules or self._packages(node, recipe),
                ),
                inputs=inputs,
            )
        )
        self.split[node] = step.name

    def _packages(self, node: Node, recipe: Definition[Recipe], only: Collection[str] | None = None) -> dict[str, PackageRule]:
        """The packages that come with the recipe's options as they are, each need as the package that answers to it; those
        called `only`, if that is given."""
        options = self.answer.options_of(node)
        switches = recipe.value.options
        found = {}
        for name, rule in package_rules(recipe, self.composition).items():
            by_options = [option for option, switch in switches.items() if name in switch.packages]
            if by_options and not any(options.get(option) for option in by_options):
                continue
            if only is not None and name not in only:
                continue
            needs = (parse_requirement(text).name for text in rule.needs)
            answered = [package for need in needs for package in self._answered(need)]
            found[name] = replace(rule, needs=tuple(answered), recommends=(), excludes=())
        return found

    def _answered(self, need: str) -> list[str]:
        if not need.startswith("@"):
            return [self.answer.package_for(need)]
        group = self.composition.workspace.groups[need.removeprefix("@")].value
        return [package for text in group.packages for package in self._answered(parse_requirement(text).name)]

    def _licences(self, node: Node, recipe: Definition[Recipe], source: tuple[str, str]) -> None:
        step = Step(
            "licence",
            self._subject(node),
            CollectLicences(files=recipe.value.licence_files),
            inputs={"source": source},
            marks={"licence-files": recipe.place("licence-files")},
        )
        self.licences[recipe.name] = self._add(step).name

    def _subject(self, node: Node) -> str:
        """The name of steps on sources, which both sides share when they build the same version."""
        other = Node(node.recipe, "host" if node.side == "board" else "board")
        versions = self.answer.versions
        return node.recipe if versions.get(other, versions[node]) == versions[node] else str(node)

    def _patched(self, node: Node, recipe: Definition[Recipe], source: tuple[str, str]) -> tuple[str, str]:
        """The sources with the recipe's patches laid on."""
        if not recipe.value.patches or self.surroundings.edited(recipe.name) is not None:
            return source  # what is edited has the patches in it
        place = recipe.place("patches")
        self.programs.setdefault("git", (place, "it applies patches"))
        files = {name: recipe.beside(name, "patches") for name in recipe.value.patches}
        step = Step(
            "patch",
            self._subject(node),
            ApplyPatches(patches=recipe.value.patches),
            files={name: self.surroundings.file_digest(path, place) for name, path in files.items()},
            inputs={"source": source},
            places=files,
        )
        return self._add(step).name, "tree"

    def _sources(self, node: Node, recipe: Definition[Recipe]) -> tuple[str, str]:
        """The step and output that hold the recipe's prepared sources."""
        subject = self._subject(node)
        edited = self.surroundings.edited(recipe.name)
        if edited is not None:
            return self._from_folder(subject, edited, recipe.place("source"))
        sources = recipe.value.source
        place = recipe.place("source")
        if len(sources) != 1:
            raise YarrikError(
                Trouble(
                    "SOURCE-COUNT",
                    f"`{recipe.name}` has {len(sources) or 'no'} sources, and needs one",
                    recipe.place("source") if sources else Place(recipe.file),
                    remedy='write one [[source]] with `path = "src"`, `url`, `git`, `debian` or `host-file`',
                )
            )
        source = sources[0]
        if sum(map(bool, (source.path, source.host_file, source.url, source.git, source.debian, source.output))) != 1:
            raise YarrikError(
                Trouble(
                    "SOURCE-FORM",
                    f"the source of `{recipe.name}` must have one of `path`, `host-file`, `url`, `git`, `debian` and `output`",
                    place,
                    remedy="keep the one that tells where the sources are",
                )
            )
        if source.path:
            folder = recipe.folder_of("source") / source.path.replace("{version}", recipe.value.version)
            return self._from_folder(subject, folder, place)
        if source.git:
            self.programs.setdefault("git", (recipe.place("source", "0", "git"), "it fetches the sources"))
            return self._add(clone_step(subject, recipe)).name, "tree"
        if source.output is not None:
            return self._from_output(node, recipe, source, source.output)
        if source.url:
            fetch, prepare = download_steps(subject, recipe)
            self._add(fetch)
            return self._add(prepare).name, "tree"
        if source.debian:
            return self._from_debian(subject, recipe, source)
        host_file, digest = self.surroundings.host_file(recipe)
        fetch = self._add(
            Step(
                "fetch",
                subject,
                FetchFile(sha256=digest),
                files={"source": digest},
                places={"source": host_file},
                predicted={"file": digest},
            )
        )
        return self._add(taken_in(subject, source.name or host_file.name, source, (fetch.name, "file"), place)).name, "tree"

    def _from_folder(self, subject: str, folder: Path, place: Place) -> tuple[str, str]:
        tree = self.surroundings.source_tree(folder, (), place)
        return self._add(folder_step(subject, folder, tree.digest)).name, "tree"

    def _from_output(self, node: Node, recipe: Definition[Recipe], source: Source, text: str) -> tuple[str, str]:
        step, output = self.output(text, recipe.place("source", "0", "output"), node.side)
        name = source.name or text.partition(":")[2]
        place = recipe.place("source")
        return self._add(taken_in(str(node), name, source, (step, f"output:{output}"), place)).name, "tree"

    def _only_outputs(self, node: Node, order: Order) -> bool:
        """Whether a recipe is built for its outputs alone: what else it installs is no part of any image or sysroot."""
        if not self.outputs_of[node] or node in order.needed:
            return False
        yields = package_rules(self.answer.recipe(node), self.composition)
        return node.side == "board" and not any(map(self.answer.brings, yields))

    def _outputs(self, node: Node, recipe: Definition[Recipe], files: tuple[str, str]) -> dict[str, str]:
        """The step that picks each output of a recipe."""
        named = recipe.value.outputs
        if not named or (recipe.value.build.using == "bootloader" and node.side == "host"):
            return {}
        if recipe.value.build.using == "bootloader":
            named = {name: f"{loader_folder(recipe.name)}/{name}" for name in named}
        step = self._add(
            Step(
                "take",
                f"outputs of {node}",
                TakeOutputs(recipe=recipe.name, outputs=dict(named)),
                inputs={"files": files},
                marks={f"output {name}": recipe.place("outputs", name) for name in named},
            )
        )
        return dict.fromkeys(named, step.name)

    def output(self, text: str, place: Place, side: Side = "board") -> tuple[str, str]:
        """The step that picks an output, and its name. Raises YarrikError for one that its recipe does not have."""
        found = output_of(text)
        assert found is not None
        name, output = found
        known = self.outputs_of.get(Node(name, side), {})
        if output not in known:
            raise YarrikError(
                Trouble("OUTPUT-UNKNOWN", f"the recipe `{name}` has no output `{output}`", place,
                        why="others can take only files that a recipe names under `outputs`",
                        remedy=suggestion(output, known) if known else
                        f'write [outputs] with {output} = "PATH" into {name}/recipe.toml')
            )  # fmt: skip
        return known[output], output

    def _given(self, node: Node, recipe: Definition[Recipe]) -> dict[str, tuple[str, str]]:
        """Outputs of other recipes as inputs of a build."""
        inputs = {}
        for number, text in enumerate(recipe.value.build.takes):
            step, output = self.output(text, recipe.place("build", "takes", str(number)), node.side)
            inputs[f"given {text}"] = (step, f"given:{output}")
        return inputs

    def _from_debian(self, subject: str, recipe: Definition[Recipe], source: Source) -> tuple[str, str]:
        package = self.surroundings.debian_source(recipe)
        place = recipe.place("source", "0", "debian")
        inputs = {}
        for name, digest in wanted_files(package.files, source.debian_patches).items():
            fetch = self._add(
                Step(
                    "fetch",
                    f"{subject} {name}",
                    Download(sha256=digest),
                    predicted={"file": digest},
                    marks={"url": place},
                    urls=(f"{DEBIAN_SCHEME}{package.folder}/{name}",),
                )
            )
            inputs[f"file {name}"] = (fetch.name, "file")
        if source.debian_patches:
            self.programs.setdefault("patch", (place, "it applies the patches of Debian's packaging"))
        action = UnpackDebian(
            package=package.name,
            version=package.version,
            dsc=package.dsc,
            patches=source.debian_patches,
            folder=source.folder,
            member_limit=source.member_limit,
            size_limit=parse_size(source.size_limit),
        )
        return self._add(Step("prepare", subject, action, inputs=inputs, marks={"source": place})).name, "tree"

    def _commands(self, node: Node, recipe: Definition[Recipe], source: tuple[str, str], order: Order) -> tuple[str, str]:
        toolchain = self._linked_with(node, order)
        programs = tuple(sorted({*self._programs(recipe), *toolchain.host_programs}))
        action = build_commands(
            recipe,
            self.answer.options_of(node),
            self._setting(node.side, toolchain),
            self._let_in(recipe.value.build),
            programs,
            self.surroundings.sight(node.side, programs),
        )
        inputs: dict[str, tuple[str, str]] = {"source": source, **self._given(node, recipe)}
        inputs |= self._needed(order.needs[node]) | self._needed(order.tools[node], "tools")
        step = self._add(
            Step(
                "build",
                str(node),
                action,
                inputs=inputs,
                places=dict(self.steps[source[0]].places),
                marks=self._marks(node),
                choices=self._choices(node, recipe),
            )
        )
        return step.name, "files"

    def _setting(self, side: Side, toolchain: Toolchain) -> Setting:
        """What builds for a side are called with."""
        known = self._settings.get(side)
        if known is None or known.toolchain is not toolchain:
            known = self._settings[side] = setting_of(self.composition, side, toolchain)
        return known

    def _needed(self, nodes: Iterable[Node], word: Literal["needs", "tools"] = "needs") -> dict[str, tuple[str, str]]:
        """The documents of what is needed, as inputs: they lead to all that these need in turn."""
        return {f"{word} {node.recipe}": (self.built[node][0], word) for node in nodes}

    def _linked_with(self, node: Node, order: Order) -> Toolchain:
        """The toolchain of a recipe's side, with the C library that a recipe of the product brings."""
        toolchain, library = self.surroundings.toolchain(node.side), self.answer.c_library
        if library is None or library not in order.needs[node]:
            return toolchain
        recipe, user = self.answer.recipe(library), self.answer.recipe(node)
        if user.value.build.using == "cargo":
            raise YarrikError(
                Trouble("TOOLCHAIN-FORM", f"`{user.name}` is in Rust, and the profile's C library is `{library.recipe}`",
                        user.place("build", "using"), why="Rust's own library is made for the toolchain's C library",
                        remedy="leave it out, or take the toolchain's own C library")
            )  # fmt: skip
        if toolchain.clang:
            board = self.composition.board
            raise YarrikError(
                Trouble("TOOLCHAIN-FORM", f"the profile's C library is `{library.recipe}`, and the board compiles with clang",
                        board.place("toolchain", "compiler"), why="only gcc can be told to link with another one",
                        remedy='set `compiler = "gcc"`, or take the toolchain\'s own C library')
            )  # fmt: skip
        build = with_words(recipe.value.build, recipe, toolchain)
        return msgspec.structs.replace(toolchain, loader=build.loader, cxx=False)

    def _programs(self, recipe: Definition[Recipe]) -> tuple[str, ...]:
        """The host's programs that a recipe's commands see: those of its build system, and those that it names."""
        build = recipe.value.build
        own = BUILD_SYSTEMS[build.using].programs
        for program in own:
            self.programs.setdefault(program, (recipe.place("build", "using"), f"`{recipe.name}` is built with {build.using}"))
        for number, program in enumerate(build.programs):
            place = recipe.place("build", "programs", str(number))
            self.programs.setdefault(program, (place, f"`{recipe.name}` says that its build uses it"))
        return tuple(sorted({*own, *build.programs}))

    def _let_in(self, build: Build) -> dict[str, str]:
        """Variables of the environment that the recipe asks for, as they are now: their values are part of the fingerprint."""
        return {name: value for name in build.let_in if (value := self.surroundings.variable(name)) is not None}

    def _choices(self, node: Node, recipe: Definition[Recipe]) -> dict[str, str]:
        """What was decided on a recipe: its version and options."""
        options = {f"option {name}": "on" if on else "off" for name, on in self.answer.options_of(node).items()}
        return {"version": recipe.value.version, **options}

    def _marks(self, node: Node) -> dict[str, Place]:
        """Where options and versions are asked for."""
        wishes, document = self.composition.wishes
        found = {}
        if node.side == "board":
            for name in wishes.options.get(node.recipe, {}):
                found[f"option {name}"] = document.origin("options", node.recipe, name).place
        if node.recipe in wishes.versions:
            found["version"] = document.origin("versions", node.recipe).place
        return found

    def _kernel(self, node: Node, recipe: Definition[Recipe], source: tuple[str, str]) -> tuple[str, str]:
        board = self.composition.board
        kernel = board.value.kernel
        toolchain = self.surroundings.toolchain(node.side)
        arch = ARCHES[toolchain.arch]
        programs = self._programs(recipe)
        host = self.surroundings.sight(node.side, programs)
        environment = self._kernel_environment()
        make = self._kernel_make(toolchain, "source")
        form = kernel_form(board, arch)
        fragments = [board.beside(name, "kernel", "fragments") for name in kernel.fragments]
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
                    built_in="../initramfs" if kernel.built_in else f"../initramfs/{ARCHIVE}" if kernel.built_in_image else "",
                    environment=environment,
                    toolchain=toolchain.shown,
                    programs=programs,
                    host=host,
                ),
                files={label: self.surroundings.file_digest(file, where) for label, (file, where) in given.items()},
                inputs={"source": source},
                places={label: file for label, (file, _) in given.items()},
                marks={key: board.place(*key.split(".")) for key in ("boot.command-line-in", "kernel.base")},
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
                    programs=programs,
                    host=host,
                ),
                inputs={"source": source, "build": (configure.name, "config"), **self._built_in()},
            )
        )  # fmt: skip
        return build.name, "files"

    def _bootloader(self, node: Node, recipe: Definition[Recipe], source: tuple[str, str]) -> tuple[str, str]:
        toolchain = self.surroundings.toolchain(node.side)
        programs = self._programs(recipe)
        build = with_paths(with_options(recipe.value, self.answer.options_of(node)), recipe)
        steps = BootloaderSteps(
            self.composition, self.surroundings, self._add, recipe, build, source, toolchain, programs,
            self.surroundings.sight(node.side, programs), self._kernel_environment(), self._given(node, recipe),
        )  # fmt: skip
        return steps.for_board(node) if node.side == "board" else steps.as_tools(node)

    def _built_in(self) -> dict[str, tuple[str, str]]:
        """The folder or image that becomes the kernel's own initramfs, as an input of its build."""
        board = self.composition.board
        if board.value.kernel.built_in_image:
            return {"initramfs": (f"pack {board.value.kernel.built_in_image} of {self.composition.name}", "tree")}
        if not board.value.kernel.built_in:
            return {}
        place = board.place("kernel", "built-in")
        folder = board.folder_of("kernel", "built-in") / board.value.kernel.built_in
        return {"initramfs": self._from_folder(f"initramfs in the kernel of {board.name}", folder, place)}

    def _module_commands(self, make: tuple[str, ...]) -> tuple[tuple[str, ...], ...]:
        """What builds and installs modules, and what recipes for outside modules need to know of the kernel.

        What belongs to them (modules.dep and its companions) is written when the root filesystem is put together."""
        if not wants_modules(self.composition):
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
        known = next((node for node in self.built if self.answer.recipe(node).value.build.using == "kernel"), None)
        if known is None or self._kernel_sources is None or not wants_modules(self.composition):
            why = "no kernel is built from source" if known is None else "its configuration has no modules"
            raise YarrikError(
                Trouble("KERNEL-NO-MODULES", f"`{recipe.name}` is a kernel module, and {why} for the board",
                        recipe.place("build", "using"), why="there is nothing that it could be built against",
                        remedy="add CONFIG_MODULES=y to one of the board's `kernel.fragments`")
            )  # fmt: skip
        toolchain = self.surroundings.toolchain(node.side)
        programs = self._programs(recipe)
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
                    programs=programs,
                    host=self.surroundings.sight(node.side, programs),
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
