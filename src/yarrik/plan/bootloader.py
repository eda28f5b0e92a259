"""The steps of a bootloader or firmware stage that is configured like a kernel: configuration, own device tree, build."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

import msgspec

from yarrik.boot import EnvironmentDamaged, parse_environment
from yarrik.errors import Place, Trouble, YarrikError, suggestion
from yarrik.model import BootloaderChoice, Build, Composition, Definition, Recipe
from yarrik.plan.actions import CompileDeviceTrees, ConfigureKernel, RunCommands
from yarrik.plan.product import DEVICE_TREE_SUFFIXES, line_in
from yarrik.plan.steps import Step, folder_step
from yarrik.plan.surroundings import Surroundings
from yarrik.resolve import Node
from yarrik.toolchain import Toolchain

#: The folder of base configurations in a bootloader's sources, and the file of its built-in environment, from its build folder.
_CONFIGS = "configs/"
_ENVIRONMENT = "environment/built-in.env"
_CONTROL = "device-tree"


def loader_folder(recipe: str) -> str:
    """Where the outputs of a bootloader's recipe are installed, from the top of an image."""
    return f"usr/share/{recipe}"


class BootloaderSteps(msgspec.Struct):
    """Adds the steps of one bootloader to a graph. `given` are outputs of other recipes, as inputs."""

    composition: Composition
    surroundings: Surroundings
    add: Callable[[Step], Step]
    recipe: Definition[Recipe]
    build: Build
    source: tuple[str, str]
    toolchain: Toolchain
    programs: tuple[str, ...]
    sight: str
    environment: Mapping[str, str]
    given: Mapping[str, tuple[str, str]]

    def for_board(self, node: Node) -> tuple[str, str]:
        """Configures it as the board says and builds it; the step and output with what it installs. Raises YarrikError."""
        index, choice = self._choice()
        board, key = self.composition.board, ("bootloader", str(index))
        control = self._own_device_tree(index, choice)
        text = self._built_in_environment(index, choice)
        configure = self._configure(node, index, choice, bool(text))
        goals = self.build.goals or ("all",)
        more = [f"EXT_DTB={{step}}/{_CONTROL}/{Path(choice.device_tree).stem}.dtb"] if control is not None else []
        make = (*self._make(), *more, *self.build.arguments)
        folder = f"{{step}}/stage/{loader_folder(self.recipe.name)}"
        install = tuple(
            ("install", "-D", "-m", "644", path, f"{folder}/{name}") for name, path in self.recipe.value.outputs.items()
        )
        config = ("install", "-D", "-m", "644", ".config", f"{folder}/config")
        step = self.add(
            Step(
                "build",
                str(node),
                RunCommands(
                    commands=(*_shells(self.build.commands_before), (*make, "-j{jobs}", *goals),
                              *_shells(self.build.commands_after), *install, config),
                    environment=dict(self.environment),
                    folder="{step}/build",
                    writable=("build",),
                    toolchain=self.toolchain.shown,
                    files={_ENVIRONMENT: text} if text else {},
                    programs=self.programs,
                    host=self.sight,
                ),
                inputs={
                    "source": self.source,
                    "build": (configure.name, "config"),
                    **self.given,
                    **({_CONTROL: control} if control is not None else {}),
                },
                marks={"bootloader": board.place(*key)},
            )
        )  # fmt: skip
        return step.name, "files"

    def as_tools(self, node: Node) -> tuple[str, str]:
        """Builds its tools for the build host, as `make tools-only` does; the step and output with what it installs."""
        pick = 'find tools -maxdepth 1 -type f -perm -u+x ! -name "*.*" -exec install -D -m 755 -t "$0/stage/usr/bin" {} +'
        make = (*self._make(), *self.build.arguments)
        step = self.add(
            Step(
                "build",
                str(node),
                RunCommands(
                    commands=((*make, "tools-only_defconfig"), (*make, "-j{jobs}", "tools-only"),
                              ("sh", "-e", "-c", pick, "{step}")),
                    environment=dict(self.environment),
                    folder="{step}/build",
                    writable=("build",),
                    toolchain=self.toolchain.shown,
                    programs=self.programs,
                    host=self.sight,
                ),
                inputs={"source": self.source, **self.given},
            )
        )  # fmt: skip
        return step.name, "files"

    def _choice(self) -> tuple[int, BootloaderChoice]:
        board = self.composition.board
        for index, choice in enumerate(board.value.bootloader):
            if choice.recipe == self.recipe.name:
                if bool(choice.base) == bool(choice.base_file):
                    raise YarrikError(
                        Trouble("BOOTLOADER-BASE", f"the bootloader `{choice.recipe}` of the board `{board.name}` needs one of "
                                "`base` and `base-file`", board.place("bootloader", str(index)),
                                why="a base configuration says which hardware it is for",
                                remedy='write `base = "…_defconfig"`; its sources have them in configs/')
                    )  # fmt: skip
                return index, choice
        known = [choice.recipe for choice in board.value.bootloader]
        raise YarrikError(
            Trouble("BOOTLOADER-NOT-CONFIGURED",
                    f"the board `{board.name}` does not say how `{self.recipe.name}` is configured", Place(board.file),
                    why=f"`{self.recipe.name}` is built with `using = \"bootloader\"`",
                    remedy=suggestion(self.recipe.name, known) if known else
                    f'write [[bootloader]] with recipe = "{self.recipe.name}" and base = "…_defconfig" into the board')
        )  # fmt: skip

    def _make(self) -> tuple[str, ...]:
        given = [f"{key}={value}" for key, value in sorted(self.build.variables.items())]
        return ("make", "-C", "{step}/source", "O={step}/build", f"CROSS_COMPILE={self.toolchain.prefix}", *given)

    def _configure(self, node: Node, index: int, choice: BootloaderChoice, environment: bool) -> Step:
        board, key = self.composition.board, ("bootloader", str(index))
        place = board.place(*key, "fragments")
        own, where = self.build.fragments, self.recipe.place("build", "fragments")
        given = {_label(name): (self.recipe.beside(name, "build", "fragments"), where) for name in own}
        for name in choice.fragments:
            given[_label(name)] = (board.beside(name, *key, "fragments"), place)
        if choice.base_file:
            given["base"] = (board.folder_of(*key, "base-file") / choice.base_file, board.place(*key, "base-file"))
        lines = []
        if environment:
            lines += ["CONFIG_USE_DEFAULT_ENV_FILE=y", f'CONFIG_DEFAULT_ENV_FILE="../{_ENVIRONMENT}"']
        elif line := line_in(self.composition, "bootloader"):
            text = line.replace("\\", "\\\\").replace('"', '\\"')
            lines += ["CONFIG_USE_BOOTARGS=y", f'CONFIG_BOOTARGS="{text}"']
        return self.add(
            Step(
                "configure",
                str(node),
                ConfigureKernel(
                    make=self._make(),
                    base=choice.base,
                    fragments=(*own, *choice.fragments),
                    command_line="",
                    kernel_arch="",
                    environment=dict(self.environment),
                    toolchain=self.toolchain.shown,
                    programs=self.programs,
                    host=self.sight,
                    configs=_CONFIGS,
                    lines=tuple(lines),
                ),
                files={label: self.surroundings.file_digest(file, where) for label, (file, where) in given.items()},
                inputs={"source": self.source, **self.given},
                places={label: file for label, (file, _) in given.items()},
                marks={"kernel.base": board.place(*key, "base"), "lines": board.place(*key)},
            )
        )

    def _built_in_environment(self, index: int, choice: BootloaderChoice) -> str:
        """The default environment as the build takes it, with the command line if that belongs there; "" for none."""
        if not choice.environment:
            return ""
        board, key = self.composition.board, ("bootloader", str(index), "environment")
        file = board.folder_of(*key) / choice.environment
        self.surroundings.file_digest(file, board.place(*key))  # says so when it is missing
        try:
            settings = parse_environment(file.read_text(encoding="utf-8", errors="replace"))
        except EnvironmentDamaged as error:
            raise YarrikError(
                Trouble("BOOT-ENVIRONMENT", f"{choice.environment}: {error}", Place(file),
                        why="the bootloader is built with it", remedy="correct the file")
            ) from error  # fmt: skip
        if line := line_in(self.composition, "bootloader"):
            settings["bootargs"] = line
        return "".join(f"{name}={value}\n" for name, value in settings.items())

    def _own_device_tree(self, index: int, choice: BootloaderChoice) -> tuple[str, str] | None:
        """The step and output with the bootloader's own device tree, compiled."""
        if not choice.device_tree:
            return None
        board, key = self.composition.board, ("bootloader", str(index), "device-tree")
        place = board.place(*key)
        source = board.folder_of(*key) / choice.device_tree
        if not source.is_file():
            raise YarrikError(
                Trouble("DEVICE-TREE-MISSING", f"there is no file {choice.device_tree} beside the board's file", place,
                        why="the bootloader would not know its own hardware", remedy=f"put it at {source}, or correct the name")
            )  # fmt: skip
        subject = f"device tree of {self.recipe.name}"
        tree = self.surroundings.source_tree(source.parent, DEVICE_TREE_SUFFIXES, place)
        sources = self.add(folder_step(subject, source.parent, tree.digest, DEVICE_TREE_SUFFIXES))
        files, places = {}, {"source": source.parent}
        boot = board.value.boot
        if choice.verify:
            if not boot.key:
                raise YarrikError(
                    Trouble("BOOTLOADER-KEY",
                            f"the bootloader `{choice.recipe}` is to verify signatures, and the board has no key",
                            board.place("bootloader", str(index), "verify"), why="there is nothing that it could verify with",
                            remedy="name the private key that signs as `boot.key`")
                )  # fmt: skip
            places["key"] = board.folder_of("boot", "key") / boot.key
            files["key"] = self.surroundings.file_digest(places["key"], board.place("boot", "key"))
        compiled = self.add(
            Step(
                "build",
                subject,
                CompileDeviceTrees(
                    source=source.name,
                    overlays=(),
                    applied=True,
                    labels=board.value.kernel.keep_labels,
                    include=(),
                    silence=board.value.kernel.silence,
                    compiler=self.toolchain.programs[0] if not self.toolchain.prefix else f"{self.toolchain.prefix}gcc",
                    arguments="",
                    key_name=boot.key_name if choice.verify else "",
                ),
                files=files,
                inputs={"source": (sources.name, "tree"), "kernel": self.source},
                places=places,
            )
        )
        return compiled.name, "blobs"


def _label(fragment: str) -> str:
    return f"fragment {Path(fragment).name}"


def _shells(texts: tuple[str, ...]) -> tuple[tuple[str, ...], ...]:
    return tuple(("sh", "-e", "-c", text) for text in texts)
