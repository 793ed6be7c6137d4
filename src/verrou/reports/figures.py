"""Pictures, drawn with Matplotlib where it is installed: no colour stands alone, each has its sign or number too."""

import io
from collections.abc import Mapping, Sequence
from typing import Any

from verrou.core.errors import BadInput

COLOURS = {
    "grave": "#a5262a",
    "serious": "#e08a2e",
    "slight": "#e6cf5c",
    "unreadable": "#51606e",
    "waived": "#b8c2cc",
    "absent": "#e8ecf0",
    "holds": "#bfe0cd",
}
INK, QUIET = "#1b2530", "#5b6772"


def pyplot() -> Any:
    """Matplotlib, set up to draw without a screen and the same each time.

    Raises:
        BadInput: it is not installed.
    """
    try:
        import matplotlib
    except ImportError:
        raise BadInput("pictures need Matplotlib; pip install 'verrou[report]' brings it") from None
    matplotlib.use("Agg")
    matplotlib.rcParams |= {
        "svg.hashsalt": "verrou",
        "font.size": 9,
        "text.color": INK,
        "axes.labelcolor": INK,
        "text.parse_math": False,
    }
    from matplotlib import pyplot as plotter

    return plotter


def as_svg(figure: Any, title: str) -> str:
    """A figure as an SVG element for a page; ``title`` is read aloud to whoever cannot see it."""
    from html import escape

    stream = io.StringIO()
    figure.savefig(stream, format="svg", metadata={"Date": None, "Creator": None}, bbox_inches="tight")
    pyplot().close(figure)
    drawn = stream.getvalue()
    drawn = drawn[drawn.index("<svg") :]
    return drawn.replace("<svg", f'<svg role="img" aria-label="{escape(title)}"', 1)


def severities(before: Mapping[str, int] | None, now: Mapping[str, int]) -> str:
    """How many findings fall short, by severity, before and now, as SVG."""
    plotter = pyplot()
    sides = ([("before", before)] if before is not None else []) + [("now", now)]
    drawn = ("grave", "serious", "slight", "unreadable", "waived")
    figure, axes = plotter.subplots(figsize=(9, 0.55 + 0.42 * len(sides)))
    for row, (_, counted) in enumerate(sides):
        start = 0
        for name in drawn:
            if count := counted[name]:
                axes.barh(row, count, left=start, color=COLOURS[name], edgecolor="white", height=0.72)
                dark = name in ("grave", "unreadable")
                axes.text(start + count / 2, row, str(count), ha="center", va="center", color="white" if dark else INK)
                start += count
        if not start:
            axes.text(0.1, row, "nothing", va="center", color=QUIET)
    axes.set_yticks(range(len(sides)), [name for name, _ in sides])
    axes.invert_yaxis()
    axes.set_xlim(0, max(1, *(sum(counted[name] for name in drawn) for _, counted in sides)))
    axes.set_xticks([])
    axes.tick_params(length=0)
    for spine in axes.spines.values():
        spine.set_visible(False)
    used = [name for name in drawn if any(counted[name] for _, counted in sides)]
    handles = [plotter.Rectangle((0, 0), 1, 1, color=COLOURS[name]) for name in used]
    if handles:
        axes.legend(handles, used, ncol=len(used), loc="upper left", bbox_to_anchor=(0, -0.02), frameon=False)
    return as_svg(figure, f"findings by severity: {_told(sides)}")


def _told(sides: Sequence[tuple[str, Mapping[str, int]]]) -> str:
    return "; ".join(
        f"{name}: " + ", ".join(f"{n} {word}" for word, n in counted.items() if n) for name, counted in sides
    )
