"""A product's graph of packages and recipes: as a tree of text, as DOT, as a figure."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from pathlib import Path

import msgspec

from yarrik.resolve import Answer, Node, Relation, Thing

#: How an edge came about, in the order in which they are drawn.
_MOST_COLUMNS = 12
KINDS = ("holds", "run time", "recommends", "build", "tool")


class Drawn(msgspec.Struct, frozen=True):
    """Names with their labels, and edges: source, target, kind."""

    root: str
    labels: Mapping[str, str]
    edges: tuple[tuple[str, str, str], ...]

    def below(self, name: str) -> list[tuple[str, str]]:
        """What a node needs: names, each with the words on its edge."""
        return [(target, kind) for source, target, kind in self.edges if source == name]


def drawn_graph(answer: Answer) -> Drawn:
    """Packages and the recipe of the same name are one; a recipe's other packages are nodes of their own."""
    labels: dict[str, str] = {}

    def name_of(thing: Thing) -> str:
        name = str(thing) if thing.kind in ("group", "recipe") else thing.name
        if thing.kind == "role":
            name = f"({thing.name})"
        node = Node(thing.name, thing.side)
        version = answer.versions.get(node) if thing.kind in ("recipe", "package") else None
        labels.setdefault(name, f"{name} {version}" if version is not None else name)
        return name

    edges: dict[tuple[str, str], str] = {}
    for link in answer.links:
        source, target = name_of(link.source), name_of(link.target)
        if source == target:
            continue
        if link.source.kind == "recipe" and link.target.kind == "package":
            continue  # a library that may come along: said by who is built with it
        if link.relation is Relation.RECOMMENDED:
            kind = "recommends"
        elif link.target.kind == "recipe":
            kind = "tool" if link.target.side == "host" and link.source.side == "board" else "build"
        else:
            kind = "holds" if link.source.kind in ("product", "group") else "run time"
        if link.relation is Relation.PACKAGE_OF:
            kind = "build"
        former = edges.get((source, target))
        if former is None or KINDS.index(kind) < KINDS.index(former):
            edges[(source, target)] = kind
    root = answer.universe.composition.name
    labels.setdefault(root, root)
    ordered = sorted(
        ((s, t, kind) for (s, t), kind in edges.items()), key=lambda edge: (edge[0], KINDS.index(edge[2]), edge[1])
    )
    return Drawn(root, labels, tuple(ordered))


_MARKS = {"holds": "", "run time": "", "recommends": "  recommended", "build": "  to build", "tool": "  tool"}


def tree_of(graph: Drawn) -> Iterator[str]:
    """Lines of a tree; what was shown before is not unfolded again."""
    seen: set[str] = set()

    def lines(name: str, before: str) -> Iterator[str]:
        children = graph.below(name)
        for position, (child, kind) in enumerate(children):
            last = position == len(children) - 1
            again = child in seen and bool(graph.below(child))
            yield f"{before}{'└─ ' if last else '├─ '}{graph.labels[child]}{_MARKS[kind]}{'  …' if again else ''}"
            if not again:
                seen.add(child)
                yield from lines(child, before + ("   " if last else "│  "))

    yield graph.labels[graph.root]
    yield from lines(graph.root, "")


_STYLES = {"holds": "solid", "run time": "solid", "recommends": "dashed", "build": "dotted", "tool": "dotted"}


def dot_of(graph: Drawn) -> str:
    """The graph in the DOT language."""
    lines = ["digraph product {", "  rankdir=LR;", '  node [shape=box, fontname="sans-serif"];']
    names = sorted({graph.root, *(name for source, target, _ in graph.edges for name in (source, target))})
    lines += [f"  {json.dumps(name)} [label={json.dumps(graph.labels[name])}];" for name in names]
    lines += [
        f"  {json.dumps(s)} -> {json.dumps(t)} [style={_STYLES[kind]}, label={json.dumps(kind)}];" for s, t, kind in graph.edges
    ]
    return "\n".join([*lines, "}", ""])


def figure_of(graph: Drawn, file: Path) -> None:
    """Draws the graph into a file whose form follows from its name's end (.png, .svg, .pdf)."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot
    from matplotlib.lines import Line2D

    places = _places(graph)
    columns = max(x for x, _ in places.values()) + 1
    rows = max(y for _, y in places.values()) + 1
    colours = {"holds": "#24527a", "run time": "#24527a", "recommends": "#b06a00", "build": "#5a7d5a", "tool": "#8a5a7d"}
    with matplotlib.rc_context({"svg.hashsalt": "yarrik", "font.size": 9}):
        figure, axes = pyplot.subplots(figsize=(max(8.0, 2.3 * columns), max(3.0, 0.5 * rows + 1)), dpi=100)
        axes.set_xlim(-0.5, columns - 0.5)
        axes.set_ylim(-rows + 0.4, 0.6)
        axes.axis("off")
        figure.canvas.draw()
        half: dict[str, float] = {}  # of each box's width, in columns
        for name, (x, y) in places.items():
            if name not in graph.labels:
                continue
            box = {"boxstyle": "round,pad=0.35", "facecolor": "#eef3f8" if name != graph.root else "#24527a"}
            colour = "white" if name == graph.root else "black"
            label = graph.labels[name]
            text = axes.text(
                x, -y, label, ha="center", va="center", bbox={**box, "edgecolor": "#24527a"}, color=colour, zorder=3
            )
            half[name] = text.get_window_extent().transformed(axes.transData.inverted()).width / 2 + 0.04
        for source, target, kind in graph.edges:
            if source not in places or target not in places:
                continue
            style = {"holds": "-", "run time": "-", "recommends": "--"}.get(kind, ":")
            points = [(places[source][0] + half[source], places[source][1]), *_way(source, target, places),
                      (places[target][0] - half[target], places[target][1])]  # fmt: skip
            axes.plot([x for x, _ in points], [-y for _, y in points], color=colours[kind], linestyle=style, lw=1.1, zorder=1)
            (x0, y0), (x1, y1) = points[-2:]
            axes.annotate(
                "", xy=(x1, -y1), xytext=(x1 - (x1 - x0) * 0.02, -y1 + (y1 - y0) * 0.02), zorder=2,
                arrowprops={"arrowstyle": "-|>", "color": colours[kind], "lw": 1.1, "shrinkA": 0, "shrinkB": 0},
            )  # fmt: skip
        legend = [
            Line2D([], [], color=colours[kind], linestyle=style, label=words)  # type: ignore[arg-type]
            for kind, style, words in (("run time", "-", "in the image"), ("recommends", "--", "recommended"),
                                       ("build", ":", "to build with"), ("tool", ":", "tool of the build host"))
        ]  # fmt: skip
        axes.legend(handles=legend, loc="lower left", bbox_to_anchor=(0, 1), ncols=4, frameon=False)
        metadata = {"Date": None} if file.suffix in (".svg",) else {"CreationDate": None} if file.suffix == ".pdf" else {}
        figure.savefig(file, bbox_inches="tight", metadata=metadata)
        pyplot.close(figure)


def _way(source: str, target: str, places: dict[str, tuple[int, float]]) -> list[tuple[float, float]]:
    """What an edge over several columns goes through between two names."""
    found = [places[_between(source, target, x)] for x in range(places[source][0] + 1, places[target][0])
             if _between(source, target, x) in places]  # fmt: skip
    return [point for x, y in found for point in ((x - 0.3, y), (x + 0.3, y))]


def _between(source: str, target: str, column: int) -> str:
    """The name of the empty place that an edge takes in a column that it passes."""
    return f"{source}\0{target}\0{column}"


def _places(graph: Drawn) -> dict[str, tuple[int, float]]:
    """A column for each name by its longest path from the root, and rows in which edges cross little. An edge over several
    columns has a place of its own in each."""
    column: dict[str, int] = {graph.root: 0}
    for _ in range(len(graph.labels)):
        changed = False
        for source, target, _ in graph.edges:
            if source in column and column.get(target, 0) < column[source] + 1 <= min(len(graph.labels), _MOST_COLUMNS):
                column[target] = column[source] + 1
                changed = True
        if not changed:
            break
    comes_from: dict[str, list[str]] = {name: [] for name in column}
    for source, target, _ in graph.edges:
        if source not in column or target not in column:
            continue
        former = source
        for x in range(column[source] + 1, column[target]):
            name = _between(source, target, x)
            column[name] = x
            comes_from[name] = [former]
            former = name
        comes_from[target].append(former)
    by_column: dict[int, list[str]] = {}
    for name, x in sorted(column.items()):
        by_column.setdefault(x, []).append(name)
    height = max(len(names) for names in by_column.values())
    row: dict[str, float] = {}
    for x in sorted(by_column):
        above = {name: [row[one] for one in comes_from[name] if one in row] for name in by_column[x]}
        centre = {name: sum(rows) / max(1, len(rows)) for name, rows in above.items()}
        names = sorted(by_column[x], key=lambda name: (centre[name], name))
        gap = height / len(names)
        for position, name in enumerate(names):
            row[name] = gap * (position + 0.5) - 0.5
    return {name: (column[name], row[name]) for name in column}
