"""Which packages a recipe yields: those that it lists, else what is usual for its build system. The one rule for it."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from yarrik.model import PackageRule
from yarrik.toolchain import RUNTIME_PACKAGES, runtime_package

if TYPE_CHECKING:
    from yarrik.model import Composition, Definition, Image, Recipe

#: Where a kernel's build leaves what modules from outside need to know of it.
KERNEL_HEADERS = "/usr/include/kernel"
#: Where device tree blobs of a kernel's own sources are installed.
KERNEL_BLOBS = "/usr/lib/device-trees"


def package_rules(recipe: Definition[Recipe], composition: Composition) -> Mapping[str, PackageRule]:
    """The packages of a recipe with what they hold.

    Usually one has everything; a C library's run time is split. A kernel's has what the board needs; others have what outside
    modules are built against, and device tree blobs of the kernel's own sources."""
    if recipe.value.package:
        return recipe.value.package
    build = recipe.value.build
    if build.using == "toolchain-runtime":
        # Which files each has is a matter of the toolchain, which is known when the product is planned.
        return {
            runtime_package(key, recipe.name): PackageRule(
                summary=one.summary if key else recipe.value.summary,
                needs=tuple(runtime_package(name, recipe.name) for name in one.names),
            )
            for key, one in RUNTIME_PACKAGES.items()
        }
    modules = build.using == "kernel" and wants_modules(composition)
    more = {}
    if modules:
        summary = "what modules from outside are built against"
        more[f"{recipe.name}-headers"] = PackageRule(files=(f"{KERNEL_HEADERS}/**",), summary=summary)
    if build.device_trees:
        summary = "device trees of the kernel's own sources"
        more[f"{recipe.name}-device-trees"] = PackageRule(files=(f"{KERNEL_BLOBS}/**",), summary=summary)
    if not more:
        return {recipe.name: PackageRule(files=("**",))}
    own = ("/boot/**", "/lib/**") if modules else ("/boot/**",)
    return {recipe.name: PackageRule(files=own), **more}


def locale_package(composition: Composition, image: Image) -> str:
    """The package that an image's locale needs: of UTF-8, the GNU C library has none in itself. Empty for an image without one,
    and where a recipe of another kind brings the C library."""
    name = composition.profile.value.c_library
    known = composition.workspace.shelved["recipe"]
    if not image.locale.lower().replace("-", "").endswith("utf8") or name not in known:
        return ""
    recipe = composition.recipe(name).value
    return runtime_package("-locale", name) if recipe.build.using == "toolchain-runtime" and not recipe.package else ""


def has_more_than_one(raw: Mapping[str, object]) -> bool:
    """Whether a recipe as written may usually yield more than a package of its own name."""
    build = raw.get("build")
    return isinstance(build, dict) and (build.get("using") in ("kernel", "toolchain-runtime") or "device-trees" in build)


def wants_modules(composition: Composition) -> bool:
    """Whether the board's kernel is configured with modules; the smallest bases have none unless a fragment asks for them.

    `.config` has the last word when the kernel is built."""
    files = module_fragments(composition)
    return files is None or any(asks_for_modules(_read_fragment(file)) for file in files)


def module_fragments(composition: Composition) -> list[Path] | None:
    """The files one of which asks for modules if the board's kernel has any; None where it has them whatever these say."""
    board = composition.board
    kernel = board.value.kernel
    if kernel.base_file or kernel.base not in ("tinyconfig", "allnoconfig"):
        return None
    return [path for name in kernel.fragments if (path := board.beside(name, "kernel", "fragments")).is_file()]


def asks_for_modules(fragment: bytes) -> bool:
    """Whether the text of a fragment configures the kernel with modules."""
    return b"CONFIG_MODULES=y" in fragment


def _read_fragment(file: Path) -> bytes:
    # Read as a source is: a build after few changes asks again, and nothing else follows from its text here.
    sys.audit("yarrik.tree", file, None)
    try:
        return file.read_bytes()
    finally:
        sys.audit("yarrik.tree-read", file)
