"""A picture of a run: a heat map of each matrix that has one, and how long the cases took."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING, BinaryIO

from keen_matrix.core.errors import Misuse
from keen_matrix.core.results.grid import Grid, chosen_axes, grids_of
from keen_matrix.reports.heat import Heat, as_rows, heats
from keen_matrix.reports.report import Report
from keen_matrix.wording.safe import cut, escape
from keen_matrix.wording.signs import STATE_SIGNS, grid_legend, sign_of, verdict_text

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_GRIDS = 6
MOST_ROWS = 30
MOST_COLUMNS = 16
COLOURS = {"none": "#eceeea", "failed": "#d9776b", "mixed": "#e9c46a", "passed": "#7fb894"}
MARKS = {"none": ""} | {state: sign_of(STATE_SIGNS[state]) for state in ("failed", "mixed", "passed")}
INK = "#20242a"
#: What is noted in a picture: by it a later report knows an earlier one, and nothing in it tells
#: of the time.
_OURS = {".png": {"Software": "Keen Matrix"}, ".svg": {"Date": None, "Creator": "Keen Matrix"}}


def write(report: Report, stream: BinaryIO) -> None:
    """Draw the picture as PNG, or as SVG when the file's name ends so. Raises Misuse for another
    ending."""
    ending = os.path.splitext(report.name)[1].lower() or ".png"
    if ending not in (".png", ".svg"):
        raise Misuse(f"a picture ends in .png or .svg, not in {ending}")
    try:
        import matplotlib as mpl
    except ImportError:
        raise Misuse("pictures need an extra: python3 -m pip install 'keen-matrix[plots]'") from None

    # It needs no display, and imports no toolkit that may be half installed.
    mpl.use("agg")
    from matplotlib import pyplot as plt

    grids: list[Grid | Heat] = [*_grids(report), *heats(report)]
    plt.rcParams.update(
        {"font.size": 9, "svg.fonttype": "path", "text.color": INK, "axes.edgecolor": "#c9cdc8"}
    )
    rows = max(1, (len(grids) + 1) // 2)
    heights = [max([_height(grid) for grid in grids[at : at + 2]] or [1.0]) for at in range(0, 2 * rows, 2)]
    figure = plt.figure(figsize=(12.8, max(8.0, sum(heights) + 4.0)), layout="constrained")
    counts = report.summary.counts
    parts = ", ".join(f"{count:,} {verdict_text(verdict)}" for verdict, count in counts.items())
    lacking = [each.sentence for each in report.missing]
    lacking += [f"{spec} could not be run" for spec in report.faults]
    lacking += [f"{spec}: {remark.subject}" for spec, remark in report.remarks if remark.kind == "hollow"]
    title = [f"{counts.total():,} cases: {parts}", *lacking, grid_legend()]
    figure.suptitle("\n".join(map(escape, title)), fontsize=12)
    if not grids:
        _durations(figure.add_subplot(), report)
    else:
        layout = figure.add_gridspec(rows + 1, 2, height_ratios=[*heights, 2.4])
        for number, grid in enumerate(grids):
            axes = figure.add_subplot(layout[number // 2, number % 2])
            if isinstance(grid, Heat):
                _shares(axes, grid)
            else:
                _heat(axes, grid)
        _durations(figure.add_subplot(layout[rows, :]), report)
    figure.savefig(stream, format=ending[1:], dpi=100, metadata=_OURS[ending])
    plt.close(figure)


def _shares(axes: Axes, heat: Heat) -> None:
    """Draw a table of shares: a doubt or coverage map."""
    import numpy as np
    from matplotlib.colors import LinearSegmentedColormap

    rows = heat.rows[:MOST_ROWS]
    shares = np.array(
        [[np.nan if each is None else each for each in row] for row in as_rows(heat)[:MOST_ROWS]], dtype=float
    )
    colours = LinearSegmentedColormap.from_list(
        "shares", [COLOURS["failed"], COLOURS["mixed"], COLOURS["passed"]]
    )
    colours.set_bad(COLOURS["none"])
    axes.imshow(shares, cmap=colours, vmin=0, vmax=100, aspect="auto")
    for y, row in enumerate(rows):
        for x, cell in enumerate(row.cells):
            axes.text(x, y, cell.text, ha="center", va="center", fontsize=8)
    axes.set_xticks(range(len(heat.heads) - 1), [_plain(each) for each in heat.heads[1:]])
    axes.set_yticks(range(len(rows)), [_plain(cut(escape(row.name), 34)) for row in rows])
    axes.tick_params(length=0)
    axes.set_title(_plain(f"{heat.title}: {heat.text}"), fontsize=9, loc="left", wrap=True)
    for side in axes.spines.values():
        side.set_visible(False)


def _height(grid: Grid | Heat) -> float:
    return 0.9 + 0.24 * min(len(grid.rows), MOST_ROWS)


def _grids(report: Report) -> list[Grid]:
    """Return the grids that tell most: of matrices with failures first."""
    matrices = sorted(report.summary.matrices.values(), key=lambda each: each.passed == each.total)
    found: list[Grid] = []
    for matrix in matrices:
        axes = chosen_axes(matrix, [name for name in report.by if name in matrix.axes])
        if len(axes) > 1:
            found += grids_of(matrix, report.cases_in(matrix.spec, matrix.name), axes)
        if len(found) >= MOST_GRIDS:
            break
    return found[:MOST_GRIDS]


def _heat(axes: Axes, grid: Grid) -> None:
    from matplotlib.colors import ListedColormap

    states = list(COLOURS)
    rows, columns = grid.rows[:MOST_ROWS], grid.columns[:MOST_COLUMNS]
    levels = [[states.index(grid.state(row, column)) for column in columns] for row in rows]
    axes.imshow(levels, cmap=ListedColormap(list(COLOURS.values())), vmin=0, vmax=3, aspect="auto")
    for y, row in enumerate(rows):
        for x, column in enumerate(columns):
            axes.text(
                x, y, MARKS[grid.state(row, column)], ha="center", va="center", fontfamily="DejaVu Sans"
            )
    axes.set_xticks(
        range(len(columns)),
        [_plain(cut(escape(each), 18)) for each in columns],
        rotation=30 if len(columns) > 6 else 0,
        ha="right" if len(columns) > 6 else "center",
    )
    axes.set_yticks(range(len(rows)), [_plain(cut(escape(each), 22)) for each in rows])
    axes.set_xticks([each - 0.5 for each in range(len(columns) + 1)], minor=True)
    axes.set_yticks([each - 0.5 for each in range(len(rows) + 1)], minor=True)
    axes.grid(which="minor", color="white", linewidth=2)
    axes.tick_params(which="both", length=0)
    third = f", {grid.third[0]} {grid.third[1]}" if grid.third else ""
    left = (len(grid.columns) - len(columns)) + (len(grid.rows) - len(rows))
    more = f" ({left} more not shown)" if left else ""
    axes.set_title(
        _plain(f"{grid.matrix}: {grid.across} across, {grid.down} down{third}{more}"), fontsize=10, loc="left"
    )
    for side in axes.spines.values():
        side.set_visible(False)


def _plain(text: str) -> str:
    """Return a text that is drawn as it stands: a dollar begins no formula."""
    return text.replace("$", r"\$")


def _durations(axes: Axes, report: Report) -> None:
    import numpy as np

    seconds: dict[bool, list[float]] = {True: [], False: []}
    for _, fields in report.cases():
        # A scale by powers of ten has no place for 0, which is what a case has that was not
        # launched.
        seconds[fields.verdict == "passed"].append(max(fields.seconds, 1e-4))
    every = seconds[True] + seconds[False]
    if not every:
        return
    low, high = min(every), max(max(every), min(every) * 1.5)
    bins = [float(each) for each in np.geomspace(low, high * 1.0001, 40)]
    axes.hist(
        [seconds[True], seconds[False]],
        bins=bins,
        stacked=True,
        color=[COLOURS["passed"], COLOURS["failed"]],
        label=["passed", "failed"],
    )
    axes.set_xscale("log")
    axes.xaxis.set_major_formatter(lambda value, _: f"{value:g} s" if value >= 1 else f"{value * 1000:g} ms")
    axes.xaxis.set_minor_formatter(lambda value, _: "")
    axes.set_title("how long the cases took", fontsize=10, loc="left")
    axes.set_ylabel("cases")
    axes.spines[["top", "right"]].set_visible(False)
    axes.legend(frameon=False)
