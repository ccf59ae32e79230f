"""What a picture shows, as far as its points tell: numbers, and no judgement.

A picture is brought to a width of about 1000 points and divided into 32 columns of square blocks. Across each block go lines
of 32 points, each the mean of four rows or columns, so that noise counts for half. Of a line its range (the darkest against the
brightest point) and its steps from point to point are looked at: an edge in focus rises within one or two points, one out of
focus takes as many as the blur is wide. Most steps of a line are noise: what the half of them stays below says how much.

What a camera writes into its picture is sharp however the lens stands. So blocks of the top and the bottom sixth that look like
writing are left out, and with several pictures also those that are sharp and the same in all while the rest is not.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

Luma = npt.NDArray[np.uint8]
Grid = npt.NDArray[np.float64]
Mask = npt.NDArray[np.bool_]

COLUMNS = 32
_LINE, _MEAN_OF = 32, 4  # points of a line, and rows or columns that it is the mean of
_BLACK, _WHITE = 24, 240
_FLAT = 2  # levels around the commonest one
_EDGE, _EDGE_NOISE = 24.0, 10.0  # an edge: this range in levels, and so many times the noise
_TIMES_NOISE = 3.0
_ENOUGH = 1200  # edges that are looked at each way; of more, every second or third
_SHARP = 0.25  # the steepest step of an edge in focus, as a share of its range
_PLAIN, _PLAIN_NOISE = 10.0, 6.0  # a block without anything in it: less range than this
_BAND, _WRITING, _WRITING_SHARP = 1 / 6, 90.0, 0.4
_SAME = 1  # levels
_STEP, _STEPS, _ALL_AROUND = 15.0, 0.3, 0.6  # levels from what covers to what is behind it, along so much of its border
_PLATEAU, _DARK = 12.0, 0.35
_LEAST_SURFACE, _LEAST_REST = 0.3, 0.04


@dataclass(frozen=True)
class Look:
    """Shares are of the picture, but where they say of what.

    black, white: points that are; depth: levels between the darkest and the brightest block, writing left out
    one_colour:   points within 2 levels of the commonest one
    median:       level in the middle
    edges:        blocks that have an edge; sharp: of all edges, those in focus
    covered:      one plain surface before the scene
    colour:       mean red, green and blue
    """

    black: float
    white: float
    depth: float
    one_colour: float
    median: float
    edges: float
    sharp: float
    covered: float
    colour: tuple[int, int, int] = (0, 0, 0)


@dataclass(frozen=True)
class Blocks:
    """By block, rows by columns: mean level, the widest range of its lines, how many of them are edges, how many of these are in
    focus, and how sharp the sharpest is. `noise` is that of the flattest lines [levels].
    """

    mean: Grid
    span: Grid
    edges: Grid
    in_focus: Grid
    sharp: Grid
    noise: float


def look_at(luma: Luma, blocks: Blocks, writing: Mask | None = None, colour: tuple[int, int, int] = (0, 0, 0)) -> Look:
    """`luma`: rows by columns, black 0 to white 255. `writing`: blocks that are known to be, as `writing_in_all` tells."""
    left_out = writing_of(blocks) if writing is None else writing | writing_of(blocks)
    counts = np.bincount(luma[::2, ::2].ravel(), minlength=256)
    below = np.cumsum(counts) / counts.sum()
    common = int(np.argmax(np.convolve(counts, np.ones(2 * _FLAT + 1), "same")))
    near = counts[max(0, common - _FLAT) : common + _FLAT + 1].sum() / counts.sum()
    kept = ~left_out
    mean, edges = blocks.mean[kept], blocks.edges[kept]
    return Look(
        black=float(below[_BLACK - 1]),
        white=float(1 - below[_WHITE - 1]),
        depth=float(mean.max() - mean.min()) if len(mean) else 0.0,
        one_colour=float(near),
        median=float(np.searchsorted(below, 0.5)),
        edges=float((edges > 0).mean()) if len(edges) else 0.0,
        sharp=float(blocks.in_focus[kept].sum() / max(1, edges.sum())),
        covered=covered(blocks, left_out),
        colour=colour,
    )


def blocks_of(luma: Luma) -> Blocks:
    """`luma`: rows by columns."""
    side = max(8, luma.shape[1] // COLUMNS)
    rows, columns = luma.shape[0] // side, luma.shape[1] // side
    picture = luma[: rows * side, : columns * side]
    both = _lines(picture, side), _lines(np.ascontiguousarray(picture.T), side)
    noise = float(np.percentile(np.concatenate([lines.rough.ravel() for lines in both]), 10)) / 1.41
    by_block = [_by_block(lines, noise) for lines in both]
    across, down = by_block[0], [grid.T for grid in by_block[1]]
    means = _sums(picture, side) / side**2
    return Blocks(
        means,
        np.maximum(across[0], down[0]),
        across[1] + down[1],
        across[2] + down[2],
        np.maximum(across[3], down[3]),
        noise,
    )


def _sums(picture: npt.NDArray[Any], side: int) -> Grid:
    """Over the points of each block."""
    rows, columns = picture.shape[0] // side, picture.shape[1] // side
    down = np.zeros((rows, columns * side), np.uint16)  # 256 points of 255 fit: no block has as many rows
    for row in range(side):
        down += picture[row : rows * side : side, : columns * side]
    sums: Grid = np.add.reduceat(down, np.arange(columns) * side, 1, np.float64)
    return sums


@dataclass(frozen=True)
class _Lines:
    """Lines along the rows of a picture, one each 16 points: their steps from point to point, range, steepest step and mean step.
    Rows and columns are in the order of blocks, which begin where `block_rows` and `block_columns` say.
    """

    steps: npt.NDArray[np.int16]  # of the whole row, in quarters of a level
    span: Grid
    step: Grid
    rough: Grid
    block_rows: npt.NDArray[np.int64]
    block_columns: npt.NDArray[np.int64]


def _lines(picture: Luma, side: int) -> _Lines:
    half, apart = _LINE // 2, 4 * _MEAN_OF  # one of four: more of them tell no more
    height, count = picture.shape[0] // apart * apart, picture.shape[1] // half
    rows = np.zeros((height // apart, count * half), np.int16)
    for row in range(_MEAN_OF):
        rows += picture[row:height:apart, : count * half]
    steps = np.zeros_like(rows)
    np.abs(rows[:, 1:] - rows[:, :-1], out=steps[:, :-1])
    low, high = _halves(rows, np.minimum, count), _halves(rows, np.maximum, count)
    steep, rough = _halves(steps, np.maximum, count), _halves(steps, np.add, count)
    middle = half * np.arange(1, count)
    block_of_row = np.minimum(np.arange(len(rows)) * apart // side, picture.shape[0] // side - 1)
    return _Lines(
        steps,
        (np.maximum(high[:, 1:], high[:, :-1]) - np.minimum(low[:, 1:], low[:, :-1])) / _MEAN_OF,
        np.maximum(steep[:, 1:], steep[:, :-1]) / _MEAN_OF,
        (rough[:, 1:].astype(np.float64) + rough[:, :-1]) * (1.25 / _LINE / _MEAN_OF),
        _begins(block_of_row, picture.shape[0] // side),
        _begins(np.minimum(middle // side, picture.shape[1] // side - 1), picture.shape[1] // side),
    )


def _halves(rows: npt.NDArray[np.int16], how: np.ufunc, count: int) -> npt.NDArray[np.int16]:
    """Each 16 points of a row in one. By halves, since a reduction along a short axis takes ten times as long."""
    while rows.shape[1] > count:
        rows = how(rows[:, 0::2], rows[:, 1::2])
    return rows


def _begins(block_of: npt.NDArray[np.int64], count: int) -> npt.NDArray[np.int64]:
    """Where each block begins; one in which no line has its middle shares that of its neighbour."""
    return np.minimum(np.searchsorted(block_of, np.arange(count)), len(block_of) - 1)


def _by_block(lines: _Lines, noise: float) -> list[Grid]:
    """Span, edges, edges in focus and the sharpest of them, by block. What noise is within an edge tells the step that half of
    its steps do not reach: an edge in focus has few that belong to it, and one out of focus has small ones only.
    """
    edge = np.zeros(lines.span.shape, bool)
    row, column = np.nonzero(lines.span >= max(_EDGE, _EDGE_NOISE * noise))
    apart = 1 + len(row) // _ENOUGH
    row, column = row[::apart], column[::apart]
    edge[row, column] = True
    own = lines.steps[row[:, None], column[:, None] * (_LINE // 2) + np.arange(_LINE - 1)]
    within = np.partition(own, _LINE // 2, axis=1)[:, _LINE // 2] / _MEAN_OF
    span, step = lines.span[row, column], lines.step[row, column]
    sharp = np.zeros(lines.span.shape)
    sharp[row, column] = np.clip(step - _TIMES_NOISE * within, 0, None) / np.maximum(span, 1)

    def each(values: npt.NDArray[Any], how: np.ufunc) -> Grid:
        grid: Grid = how.reduceat(how.reduceat(values.astype(np.float64), lines.block_rows, 0), lines.block_columns, 1)
        return grid

    return [each(lines.span, np.maximum), each(edge, np.add), each(sharp >= _SHARP, np.add), each(sharp, np.maximum)]


def writing_of(blocks: Blocks) -> Mask:
    """Blocks of the bands at top and bottom that look like writing: much contrast, and as sharp as can be."""
    found: Mask = (blocks.span >= _WRITING) & (blocks.sharp >= _WRITING_SHARP)
    band = round(blocks.mean.shape[0] * _BAND)
    found[band : len(found) - band] = False
    return found


def writing_in_all(pictures: Sequence[Luma], first: Blocks) -> Mask | None:
    """Blocks, of the `first` picture, that are sharp and the same in all, where most of the rest is not; None where nothing
    tells that.
    """
    if len(pictures) < 2 or len({p.shape for p in pictures}) > 1:
        return None
    same = np.logical_and.reduce([share_alike(pictures[0], p) > 0.98 for p in pictures[1:]])
    if same.mean() > 0.5:
        return None
    found: Mask = same & (first.sharp >= _WRITING_SHARP)
    return found


def share_alike(one: Luma, other: Luma) -> Grid:
    """By block, the share of points that are within a level of one another. Both have the same shape."""
    alike = np.abs(one.astype(np.int16) - other) <= _SAME
    side = max(8, one.shape[1] // COLUMNS)
    share: Grid = _sums(alike, side) / side**2
    return share


def means_of(luma: Luma) -> Grid:
    """The mean level of each block."""
    side = max(8, luma.shape[1] // COLUMNS)
    means: Grid = _sums(luma, side) / side**2
    return means


def covered(blocks: Blocks, left_out: Mask, had_edges: Mask | None = None) -> float:
    """The share of the picture that one plain surface hides. It lies before the scene where it is no brighter than what is beside
    it, and meets that in a step: fog is brighter, the dark around a lamp or an infrared light fades. And where a scene has no
    such surface: over the whole side of the picture, or nearly all of it, or growing out of one border without reaching the next
    ones; the sky and the ground reach from side to side. `had_edges`, of an earlier picture of the same scene, tells better.
    """
    plain = (blocks.span < max(_PLAIN, _PLAIN_NOISE * blocks.noise)) & ~left_out
    if plain.mean() < _LEAST_SURFACE:
        return 0.0
    surface = _largest(plain)
    share = float(surface.sum()) / surface.size
    top, bottom, left, right = (float(b.mean()) for b in (surface[0], surface[-1], surface[:, 0], surface[:, -1]))
    whole_side = max(left, right) >= 0.7 and share >= 0.35
    nearly_all = share >= 0.6 and max(top, bottom, left, right) >= 0.4
    grown_in = share >= _LEAST_SURFACE and (
        (bottom >= 0.3 and max(left, right) < 0.15) or (max(left, right) >= 0.3 and max(top, bottom) < 0.15)
    )
    from_below = share >= 0.35 and bottom >= 0.7
    known = had_edges is not None and share >= _LEAST_SURFACE and float(had_edges[surface].mean()) >= 0.4
    beside = ~_grown(surface) & ~left_out
    shaped = known if had_edges is not None else whole_side or nearly_all or grown_in
    if not (shaped or (from_below and had_edges is None)) or beside.sum() < _LEAST_REST * surface.size:
        return 0.0
    level, behind = float(blocks.mean[surface].mean()), float(blocks.mean[beside].mean())
    in_focus = float((blocks.in_focus[beside] > 0).mean())
    steps = _steps_around(blocks.mean, surface, beside)
    if level > behind + _STEP or (in_focus < 0.1 and not (nearly_all and steps >= _ALL_AROUND)):
        return 0.0
    if not shaped and (
        level > _DARK * behind or in_focus < 0.3
    ):  # the ground is not as dark, but against the evening sky
        return 0.0
    if _off_a_plane(blocks.mean, surface) > _PLATEAU or steps < _STEPS:
        return 0.0
    return share


def _steps_around(mean: Grid, surface: Mask, beside: Mask) -> float:
    """Along what share of its border there is a step, from a block of the surface to the next but one."""
    found = []
    for axis, way in ((0, 2), (0, -2), (1, 2), (1, -2)):
        there, level = np.roll(beside, -way, axis), np.roll(mean, -way, axis)
        edge = surface & there & ~np.roll(surface, -way // 2, axis)
        cut = [slice(None), slice(None)]
        cut[axis] = slice(None, -way) if way > 0 else slice(-way, None)
        found.append(np.abs(mean - level)[tuple(cut)][edge[tuple(cut)]])
    steps = np.concatenate(found)
    return float((steps >= _STEP).mean()) if len(steps) else 0.0


def _off_a_plane(mean: Grid, where: Mask) -> float:
    """How far levels lie off the plane through them [levels, root mean square]."""
    row, column = np.nonzero(where)
    plane = np.stack([row, column, np.ones(len(row))], 1)
    solved = np.linalg.lstsq(plane, mean[where], rcond=None)[0]
    return float(np.sqrt(np.mean((mean[where] - plane @ solved) ** 2)))


def _grown(mask: Mask) -> Mask:
    """With the blocks beside it."""
    padded = np.pad(mask, 1)
    grown: Mask = mask | padded[:-2, 1:-1] | padded[2:, 1:-1] | padded[1:-1, :-2] | padded[1:-1, 2:]
    return grown


def _largest(mask: Mask) -> Mask:
    """The largest part of it that hangs together."""
    best, left = np.zeros_like(mask), mask.copy()
    while left.sum() > best.sum():
        part = np.zeros_like(mask)
        part[tuple(np.argwhere(left)[0])] = True
        size = 0
        while (count := int(part.sum())) != size:
            size, part = count, _grown(part) & left
        left &= ~part
        best = part if size > best.sum() else best
    return best
