"""Compiles device tree source (Devicetree Specification v0.4, chapter 6): lexer, grammar and references in one call."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from pathlib import Path

from yarrik.beneath import regular_file
from yarrik.devicetree.checks import Finding, check_tree
from yarrik.devicetree.grammar import Grammar
from yarrik.devicetree.lexer import Lexer, Token
from yarrik.devicetree.tree import DeviceTree
from yarrik.errors import Place, Trouble


def compile_source(path: Path, text: str | None = None, include: Sequence[Path] = (), symbols: bool = False) -> DeviceTree:
    """Compiles a `.dts` or `.dtso` file, or what a preprocessor made of it (`text`).

    `/include/` and `/incbin/` look beside the file that names them, then in the folders `include`. With `symbols`, all
    labels are kept for overlays. Raises SourceError with all that is wrong."""
    return Grammar(Lexer(path, include), symbols).run(text)


def compile_and_check(
    path: Path,
    text: str | None = None,
    include: Sequence[Path] = (),
    symbols: bool = False,
    silenced: Collection[str] = (),
    reader: Callable[[Path], bytes] = regular_file,
) -> tuple[DeviceTree, list[Trouble]]:
    """As `compile_source`, and what the checks find likely wrong, but for those whose codes are silenced. All files are read
    with `reader`, which raises OSError for those that may not be read."""
    lexer = Lexer(path, include, reader)
    tree = Grammar(lexer, symbols).run(text)
    return tree, [_found(lexer, one) for one in check_tree(tree.root) if one.code not in silenced]


def _found(lexer: Lexer, finding: Finding) -> Trouble:
    """What a check found, at the place in the source where it stands."""
    mark = (finding.item.at if finding.item is not None else None) or finding.node.at
    if mark is None:
        return Trouble(finding.code, finding.what, Place(lexer.path), finding.why, finding.remedy)
    text = finding.item.name if finding.item is not None and finding.item.at is not None else finding.node.name or "/"
    return lexer.trouble(finding.code, finding.what, Token("", text, *mark), finding.why, finding.remedy)
