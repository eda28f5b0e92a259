"""The last build over time: which step ran when, in which of the places that run steps, and what everything waited for."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from yarrik.run import Span
from yarrik.units import counted


def places_of(spans: Sequence[Span]) -> list[int]:
    """For each step, in the order in which they began, the first place that was free then."""
    free: list[float] = []
    found = []
    for span in spans:
        place = next((number for number, until in enumerate(free) if until <= span.began + 1e-6), len(free))
        if place == len(free):
            free.append(0.0)
        free[place] = span.ended
        found.append(place)
    return found


def longest_way(spans: Sequence[Span]) -> list[Span]:
    """The chain of steps, each needed by the next, that ended last: shortening anything else ends the build no sooner."""
    by_name = {span.step: span for span in spans}
    chain: list[Span] = []
    span = max(spans, key=lambda one: (one.ended, one.step), default=None)
    while span is not None:
        chain.insert(0, span)
        needed = [by_name[name] for name in span.needs if name in by_name]
        span = max(needed, key=lambda one: (one.ended, one.step), default=None)
    return chain


def timeline_figure(product: str, spans: Sequence[Span], file: Path) -> None:
    """Draws the build into a file whose form follows from its name's end (.png, .svg, .pdf)."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot
    from matplotlib.patches import Patch

    places = places_of(spans)
    way = {span.step for span in longest_way(spans)}
    end = max(span.ended for span in spans)
    rows = max(places) + 1
    with matplotlib.rc_context({"svg.hashsalt": "yarrik", "font.size": 9}):
        figure, axes = pyplot.subplots(figsize=(12.0, max(2.2, 0.9 * rows + 1.2)), dpi=100)
        for span, place in zip(spans, places, strict=True):
            colour = "#c0392b" if span.failed else "#24527a" if span.step in way else "#b9cbdc"
            axes.barh(place, span.seconds, left=span.began, height=0.72, color=colour, edgecolor="white", linewidth=0.8)
            room = int(span.seconds / end * 150)
            if room >= 4:
                text = span.step if len(span.step) <= room else span.step[: room - 1] + "…"
                dark = span.step in way or span.failed
                axes.text(span.began + span.seconds / 2, place, text, ha="center", va="center", clip_on=True,
                          color="white" if dark else "black", fontsize=8)  # fmt: skip
        axes.set_xlim(0, end)
        axes.set_ylim(rows - 0.4, -0.6)
        axes.set_yticks(range(rows), [f"job {number + 1}" for number in range(rows)])
        axes.set_xlabel("seconds since the build began")
        busy = sum(span.seconds for span in spans) / (end * rows) * 100 if end else 0
        axes.set_title(f"{product}: {counted(len(spans), 'step')} in {end:.1f} s, utilisation {busy:.0f} %", loc="left")
        legend = [Patch(color="#24527a", label="critical path"), Patch(color="#b9cbdc", label="beside it")]
        legend += [Patch(color="#c0392b", label="failed")] if any(span.failed for span in spans) else []
        axes.legend(handles=legend, loc="lower right", bbox_to_anchor=(1, 1), ncols=3, frameon=False)
        for side in ("top", "right", "left"):
            axes.spines[side].set_visible(False)
        metadata = {"Date": None} if file.suffix == ".svg" else {"CreationDate": None} if file.suffix == ".pdf" else {}
        figure.savefig(file, bbox_inches="tight", metadata=metadata)
        pyplot.close(figure)
