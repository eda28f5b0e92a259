"""The commands of a recipe's build, from what the recipe says, the side that it is built for, and no other recipe."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from msgspec.structs import replace

from yarrik.errors import Trouble, YarrikError
from yarrik.plan.actions import RunCommands
from yarrik.plan.build_systems import BUILD_SYSTEMS, Setting, calls_for, with_options, with_words
from yarrik.plan.steps import UNBOUND, Bounds
from yarrik.resolve import outputs_in, with_outputs
from yarrik.toolchain import SPECS_FILE, Toolchain, specs
from yarrik.units import parse_size, parse_span

if TYPE_CHECKING:
    from yarrik.model import Build, Composition, Definition, Recipe

#: Tools beside the compilers, by the variables in which builds look for them.
_TOOLS = {
    "AR": "ar", "LD": "ld", "NM": "nm", "OBJCOPY": "objcopy", "OBJDUMP": "objdump", "RANLIB": "ranlib",
    "READELF": "readelf", "STRIP": "strip",
}  # fmt: skip

#: Keys of a recipe's `build`, and of its options, from which nothing follows but its commands and their bounds.
_OF_BUILD = frozenset(
    ["arguments", "commands", "commands-after", "commands-before", "configure", "goals", "install-goals", "memory",
     "output-limit", "place", "process-limit", "time-limit", "variables", "weight"]
)  # fmt: skip
_OF_OPTION = frozenset(["arguments", "arguments-off", "variables", "variables-off"])


def build_commands(
    recipe: Definition[Recipe],
    options: Mapping[str, bool],
    setting: Setting,
    let_in: Mapping[str, str],
    programs: tuple[str, ...],
    host: str,
) -> RunCommands:
    """The action that builds a recipe with these options. `let_in` are variables of the environment that it asks for,
    `programs` those of the host that it sees, and `host` is the digest of their paths. Raises YarrikError."""
    toolchain = setting.toolchain
    build = with_words(with_options(recipe.value, options), recipe, toolchain)
    calls = calls_for(with_paths(build, recipe), setting)
    return RunCommands(
        commands=calls.commands,
        environment={**calls.environment, **let_in},
        folder=calls.folder,
        writable=("source", "build"),
        toolchain=toolchain.shown,
        files=dict(calls.files) | ({SPECS_FILE: specs(toolchain.loader)} if toolchain.loader else {}),
        programs=programs,
        host=host,
    )


def beyond_commands(raw: Mapping[str, Any]) -> dict[str, Any] | None:
    """What is written in a recipe without that from which nothing follows but its commands: as long as this stays, so does the
    plan of everything else. None where that is not so: conditions, and what has steps of its own kind."""
    build, options = raw.get("build"), raw.get("options", {})
    if not isinstance(build, dict) or not isinstance(options, dict) or "when" in raw:
        return None
    system = BUILD_SYSTEMS.get(str(build.get("using")))
    if system is None or system.calls is None or "loader" in build:
        return None
    plain = {key: value for key, value in build.items() if key not in _OF_BUILD}
    rules = {
        name: {key: value for key, value in rule.items() if key not in _OF_OPTION} if isinstance(rule, dict) else rule
        for name, rule in options.items()
    }
    return {**raw, "build": plain, "options": rules}


def setting_of(composition: Composition, side: str, toolchain: Toolchain) -> Setting:
    """What builds for a side of a product are called with."""
    profile, board = composition.profile.value, composition.board.value
    flags = [*profile.c_flags, *board.toolchain.c_flags] if side == "board" else ["-O2"]
    links = list(profile.link_flags) if side == "board" else []
    sysroot = "{step}/sysroot/usr"
    # Without a merged /usr, some libraries are in /lib.
    libraries = (f"{sysroot}/lib", "{step}/sysroot/lib")
    kept = ("-ffile-prefix-map={step}/source=.", "-ffile-prefix-map={step}=.")
    compiled = " ".join([*flags, *kept, f"-I{sysroot}/include"])
    environment = {
        "CC": " ".join(toolchain.compiler),
        "CXX": " ".join(toolchain.cxx_compiler),
        **{variable: toolchain.prefix + program for variable, program in _TOOLS.items()},
        "PKG_CONFIG": "pkg-config",
        "CPPFLAGS": f"-I{sysroot}/include",
        "CFLAGS": compiled,
        "CXXFLAGS": compiled,
        "LDFLAGS": " ".join(
            [*links, *(f"-L{folder}" for folder in libraries), *(f"-Wl,-rpath-link,{folder}" for folder in libraries)]
        ),
        "PREFIX": "/usr",
        "SOURCE_DATE_EPOCH": str(int(profile.clock.timestamp())),
    }
    return Setting(toolchain, environment, side == "board" and composition.board.value.arch != "host")


def bounds_of(build: Build) -> Bounds:
    """What a recipe's commands take, and what they may take at most."""
    if (
        build.weight == 1
        and not (build.memory or build.time_limit or build.output_limit)
        and (build.process_limit == UNBOUND.processes)
    ):
        return UNBOUND
    return Bounds(
        weight=build.weight,
        memory=parse_size(build.memory) if build.memory else 0,
        seconds=parse_span(build.time_limit) if build.time_limit else 0.0,
        output=parse_size(build.output_limit) if build.output_limit else UNBOUND.output,
        processes=build.process_limit,
    )


def with_paths(build: Build, recipe: Definition[Recipe]) -> Build:
    """The build with the path of each `{RECIPE:OUTPUT}` in its texts. Raises YarrikError for one that it does not take."""
    taken = set(build.takes)
    texts = {
        "goals": build.goals, "install-goals": build.install_goals, "arguments": build.arguments,
        "variables": tuple(build.variables.values()), "commands-before": build.commands_before, "commands": build.commands,
        "commands-after": build.commands_after,
    }  # fmt: skip
    for key, found in texts.items():
        for text in found:
            for name, output in outputs_in(text):
                if f"{name}:{output}" not in taken:
                    raise YarrikError(
                        Trouble("OUTPUT-NOT-TAKEN", f"`{recipe.name}` uses {{{name}:{output}}} and does not take it",
                                recipe.place("build", key), why="what a build takes of others decides what is built before it",
                                remedy=f'add "{name}:{output}" to `takes` of [build]')
                    )  # fmt: skip
    if not taken:
        return build

    def filled(text: str) -> str:
        return with_outputs(text, lambda name, output: f"{{step}}/given/{name}/{output}")

    return replace(
        build,
        goals=tuple(map(filled, build.goals)),
        install_goals=tuple(map(filled, build.install_goals)),
        arguments=tuple(map(filled, build.arguments)),
        variables={key: filled(value) for key, value in build.variables.items()},
        commands_before=tuple(map(filled, build.commands_before)),
        commands=tuple(map(filled, build.commands)),
        commands_after=tuple(map(filled, build.commands_after)),
    )
