"""The workspace of a product file: made beside it, with the shelves that the file names."""

from __future__ import annotations

import json
import os
from pathlib import Path

import tomlkit

from yarrik.atomic import write_file
from yarrik.errors import Place, Trouble, YarrikError, shown_path
from yarrik.model import FILE, ProductInFile, read_document, read_product_file
from yarrik.run.shelves import shelf_block

_IGNORED = "/.yarrik/\n/out/\n/shelves/\n"


def workspace_for(file: Path, folder: Path | None = None) -> Path:
    """The workspace in which a product file is built: `folder`, else one of the file's name beside it; made if it is not there.
    Raises YarrikError."""
    found = read_product_file(file)  # whatever is wrong with it comes before anything is written
    root = folder if folder is not None else file.with_suffix("")
    made_for = os.path.relpath(file, root)
    own = root / FILE
    if own.is_file():
        known = read_document(own).raw.get("workspace", {})
        if isinstance(known, dict) and os.path.normpath(root / str(known.get("made-for", "."))) == os.path.normpath(file):
            return root
    if root.exists() and (not root.is_dir() or any(root.iterdir())):
        raise YarrikError(
            Trouble("NEW-EXISTS", f"{shown_path(root)} is there already, and is not the workspace of {file.name}", Place(root),
                    why="the product file is built in a folder of its own", remedy="name another one: --in FOLDER")
        )  # fmt: skip
    text = (
        f"# The workspace of {_quoted(made_for)}, written by `yarrik build`: that file names shelves and product.\n"
        f"[workspace]\nname = {_quoted(found.value.name)}\nmade-for = {_quoted(made_for)}\n"
    )
    _write(root, {FILE: text, ".gitignore": _IGNORED})
    return root


def workspace_from(file: Path, folder: Path) -> tuple[list[Path], ProductInFile]:
    """Makes an ordinary workspace of a product file and of what it includes, to work in. Returns what was written, and the file
    as it was read. Raises YarrikError; then nothing has changed."""
    found = read_product_file(file)
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise YarrikError(Trouble("NEW-EXISTS", f"{shown_path(folder)} is there already", Place(folder),
                                  remedy="name a new folder: yarrik workspace from FILE FOLDER"))  # fmt: skip
    name = found.value.name
    names = ", ".join(shown_path(one) for one in found.files)
    head = f"# Made from {names}.\n[workspace]\nname = {_quoted(name)}\nproduct = {_quoted(name)}\n"
    if found.value.needs_yarrik:
        head += f"needs-yarrik = {_quoted(found.value.needs_yarrik)}\n"
    blocks = "".join(f"\n{shelf_block(one)}" for one in found.shelves(folder))
    files = {FILE: head + blocks, ".gitignore": _IGNORED, **_product_files(found)}
    _write(folder, files)
    return [folder / path for path in files], found


def _product_files(found: ProductInFile) -> dict[str, str]:
    """The product's own file. Where several files change what it names, each of them becomes a variant: their changes apply one
    after the other, and one file could hold the last of them only."""
    name = found.value.name
    changing = [layer for layer in found.layers if layer.raw["set"]]
    product = dict(found.product.raw)
    files = {}
    if len(changing) > 1:
        variants = [f"{name}-{number}" for number in range(1, len(changing) + 1)]
        for variant, layer in zip(variants, changing, strict=True):
            text = tomlkit.dumps({"summary": f"What {layer.file.name} changes", "set": layer.raw["set"]})
            files[f"variants/{variant}.toml"] = text
        del product["set"]
        product["variants"] = [*variants, *product.get("variants", ())]
    return {f"products/{name}.toml": tomlkit.dumps(product), **files}


def _write(root: Path, files: dict[str, str]) -> None:
    try:
        for path, text in sorted(files.items()):
            (root / path).parent.mkdir(parents=True, exist_ok=True)
            write_file(root / path, text.encode())
    except OSError as error:
        raise YarrikError(Trouble("NEW-UNWRITABLE", f"cannot write {shown_path(root)}: {error.strerror}", Place(root),
                                  remedy="name a folder of yours: --in FOLDER")) from error  # fmt: skip


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)
