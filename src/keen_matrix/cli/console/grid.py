"""Grids on a terminal: a sign a cell, that reads without colour and has an ASCII form."""

from __future__ import annotations

from keen_matrix.cli.console.screen import Screen
from keen_matrix.core.results.grid import Grid
from keen_matrix.core.width import cells
from keen_matrix.wording.safe import cut, escape, pad
from keen_matrix.wording.signs import GRID_WORDS, STATE_SIGNS, STYLE_OF, Segment, legend

LABEL_WIDTH = 18
COLUMN_WIDTH = 12
MOST_ROWS = 60


def write_grid(screen: Screen, grid: Grid) -> None:
    """Write one grid, cut to the width of the screen; what is cut is reported."""
    third = f", {grid.third[0]} {grid.third[1]}" if grid.third else ""
    down = f", down {grid.down}" if grid.down else ""
    screen.line((grid.matrix, "strong"), f"   across {grid.across}{down}{third}")
    label = min(LABEL_WIDTH, max([cells(escape(row)) for row in grid.rows] or [0]))
    room = screen.width - 4 - label
    shown: list[tuple[str, int]] = []
    used = 0
    for column in grid.columns:
        width = max(1, min(COLUMN_WIDTH, cells(escape(column))))
        if used + width + 2 > room:
            break
        shown.append((column, width))
        used += width + 2
    head = "  ".join(pad(cut(escape(column), width), width) for column, width in shown)
    screen.line("  ", " " * label, "  ", (head, "dim"))
    for row in grid.rows[:MOST_ROWS]:
        screen.line(*_row(screen, grid, row, label, shown))
    left = (
        [f"{len(grid.columns) - len(shown)} more of {grid.across}"] if len(shown) < len(grid.columns) else []
    )
    left += [f"{len(grid.rows) - MOST_ROWS} more of {grid.down}"] if len(grid.rows) > MOST_ROWS else []
    if left:
        screen.line(("  not shown: ", "dim"), (" and ".join(left), "dim"))


def _row(screen: Screen, grid: Grid, row: str, label: int, shown: list[tuple[str, int]]) -> list[Segment]:
    segments: list[Segment] = ["  ", (pad(cut(escape(row), label), label), "dim"), "  "]
    for column, width in shown:
        state = grid.state(row, column)
        segments += [(screen.sign(STATE_SIGNS[state]), STYLE_OF[STATE_SIGNS[state]]), " " * (width + 1)]
    return segments


def write_grid_legend(screen: Screen) -> None:
    """Write what the signs stand for."""
    screen.line("  ", *legend(screen, GRID_WORDS, GRID_WORDS))
