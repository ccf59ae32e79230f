"""What a picture says of its camera: covered, out of focus, blinded, without a signal, standing still, turned elsewhere.

It accuses only what no scene looks like. Day, night, fog and infrared light were held against the thresholds
(`benchmarks/pictures.py`); the site's policy can set others.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from PIL import Image

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.jobs.streams.looking import (
    Blocks,
    Grid,
    Look,
    Luma,
    Mask,
    blocks_of,
    covered,
    look_at,
    means_of,
    share_alike,
    writing_in_all,
    writing_of,
)
from zentrale.protocols.streams.key_pictures import Shot
from zentrale.site.model import Policy
from zentrale.subjects import Ref

PICTURE_CODES = frozenset({"PIC-1", "PIC-2", "PIC-3", "PIC-6", "PIC-7"})
REFERENCE_WIDTH = 640
_GRID = (64, 36)  # points: what stays the same when leaves move and the light changes
_ENOUGH = 3  # pictures
_RELIEF = 60.0  # levels from the darkest block to the brightest
_EDGES, _NIGHT, _DEPTH, _COLOURED = 0.08, 25, 4.0, 40  # enough to be out of focus; too dark for it; of nothing; no grey
_GLANCE, _GLANCE_SHARE = 6.0, 0.1  # levels of its parts, and the share of these
_SAME_SHARE, _CHANGED = 0.995, 0.7  # of a block's points; of blocks with texture (live: 0.9 and more, still: up to 0.6)
_TEXTURE, _LEAST_TEXTURE, _MOVED = 10.0, 0.05, 2.0  # levels along a line; share of blocks; levels of a block's mean


@dataclass(frozen=True)
class Looked:
    """Key pictures of one stream that were looked at, in their order: what each shows, and their points."""

    shots: tuple[Shot, ...]
    looks: tuple[Look, ...]
    points: tuple[Luma, ...]


def look_at_all(pictures: Sequence[tuple[Shot, Luma, tuple[int, int, int]]]) -> Looked:
    """Each with its mean colour."""
    points = tuple(luma for _, luma, _ in pictures)
    blocks = [blocks_of(luma) for luma in points]
    writing = writing_in_all(points, blocks[0]) if blocks else None
    looks = tuple(look_at(luma, own, writing, colour) for (_, luma, colour), own in zip(pictures, blocks, strict=True))
    return Looked(tuple(shot for shot, _, _ in pictures), looks, points)


def is_well(looked: Looked, policy: Policy) -> bool:
    """Whether each of them is as a picture should be."""
    return all(_code(look, policy) is None for look in looked.looks)


def is_alike(one: Grid, other: Grid) -> bool:
    """Whether two pictures are the same at a glance: what hides, blinds or turns a camera changes a tenth of its parts."""
    return one.shape == other.shape and float((np.abs(one - other) > _GLANCE).mean()) < _GLANCE_SHARE


def judge_pictures(subject: str | Ref, looked: Looked, policy: Policy) -> Iterable[Finding]:
    """What most of the pictures show, by the first one that does; and whether they live."""
    codes = Counter(_code(look, policy) for look in looked.looks)
    for code, count in codes.most_common(1):
        if code is not None and 2 * count > len(looked.looks):
            look = next(look for look in looked.looks if _code(look, policy) == code)
            yield _finding(code, subject, look, policy, _judged_on(count, len(looked.looks)))
    yield from _stillness(subject, looked)


def _code(look: Look, policy: Policy) -> str | None:
    if look.one_colour >= policy.picture_one_colour_percent / 100:
        if max(look.colour) - min(look.colour) >= _COLOURED:
            return "PIC-7"
        return "PIC-1" if look.median < _NIGHT else "PIC-2" if look.median >= 240 else "PIC-7"
    if look.black >= policy.picture_black_percent / 100 and look.depth < _DEPTH:
        return "PIC-1"
    if look.white >= policy.picture_white_percent / 100:
        return "PIC-2"
    if look.covered >= policy.picture_covered_percent / 100:
        return "PIC-6"
    something = look.edges >= _EDGES or look.depth >= _RELIEF  # what is blurred beyond having an edge
    if look.median >= _NIGHT and something and look.sharp < policy.picture_sharp_percent / 100:
        return "PIC-3"
    return None


def _finding(code: str, subject: str | Ref, look: Look, policy: Policy, on: str) -> Finding:
    measured, limit, key = {
        "PIC-1": (f"{100 * look.black:.0f} % of it is black", policy.picture_black_percent, "black"),
        "PIC-2": (f"{100 * look.white:.0f} % of it is white", policy.picture_white_percent, "white"),
        "PIC-3": (f"{100 * look.sharp:.0f} % of its edges are in focus", policy.picture_sharp_percent, "sharp"),
        "PIC-6": (f"{100 * look.covered:.0f} % of it is covered by one plain surface", policy.picture_covered_percent, "covered"),
        "PIC-7": (
            f"{100 * look.one_colour:.0f} % of it is one colour ({_named(look.colour)})", policy.picture_one_colour_percent,
            "one_colour",
        ),
    }[code]  # fmt: skip
    side = f"{limit:g} % or more" if code == "PIC-3" else f"less than {limit:g} %"
    return finding(code, subject, f"{measured}{on}", side, f"site.toml [policy] picture_{key}_percent")


def _judged_on(count: int, looks: int) -> str:
    """On how many pictures, where they are fewer than three or do not all say it."""
    if count == looks >= _ENOUGH:
        return ""
    return (
        f", judged on {quantities.count(looks, 'picture')}" if count == looks else f", in {count} of {looks} pictures"
    )


def _named(colour: tuple[int, int, int]) -> str:
    red, green, blue = colour
    if max(colour) - min(colour) < _COLOURED:
        return "grey"
    return {red: "red", green: "green", blue: "blue"}[max(colour)]


def _stillness(subject: str | Ref, looked: Looked) -> Iterable[Finding]:
    """Pictures of which each is the one before, though time passed and nothing came in between that could have changed them."""
    pairs = zip(looked.shots, looked.points, looked.shots[1:], looked.points[1:], strict=False)
    for shot, points, later, later_points in pairs:
        moved = _moved(points, later_points) if later.quiet else None
        if moved is not None:
            beside = f", but for {100 * moved:.1f} % that looks like a clock" if moved else ""
            text = (
                f"from {quantities.seconds(shot.after_s)} to {quantities.seconds(later.after_s)} after it began its pictures are "
                f"the same to the point{beside}"
            )
            yield finding("PIC-4", subject, text, "a picture that lives", "decoded key pictures")
            return


def _moved(one: Luma, other: Luma) -> float | None:
    """The share of the picture that moved, where what has texture is the same but for what coding makes of it; None where the
    picture lives. A sensor's noise changes nearly every block with texture, however quiet the scene is, and whatever the coding
    leaves of it; a still picture is coded a little otherwise in each key picture, and a running clock changes a few blocks.
    """
    if one.shape != other.shape:
        return None
    textured = blocks_of(one).span >= _TEXTURE
    if textured.mean() < _LEAST_TEXTURE or (share_alike(one, other) < _SAME_SHARE)[textured].mean() > _CHANGED:
        return None
    return float((np.abs(means_of(one) - means_of(other)) > _MOVED).mean())


def alike(one: Grid, other: Grid, left_out: Mask | None = None) -> float:
    """How well the edges of two small pictures lie on one another: 1 for the same, about 0 where they have nothing in common
    (correlation of the steps' sizes). Brightness does not matter, nor what moves in a small part of it.
    """
    kept = np.ones(one.shape, bool) if left_out is None else ~left_out
    first, second = (_steps(picture)[kept] for picture in (one, other))
    first, second = first - first.mean(), second - second.mean()
    length = float(np.sqrt((first**2).sum() * (second**2).sum()))
    return float((first * second).sum() / length) if length else 0.0


def _steps(picture: Grid) -> Grid:
    down, across = np.gradient(picture)
    return np.asarray(np.hypot(across, down))


class Outlines(NamedTuple):
    """Of one picture: a small copy of it, its blocks, and where something is written into it."""

    grid: Grid
    blocks: Blocks
    writing: Mask


def outlines_of(picture: Image.Image) -> Outlines:
    blocks = _blocks(picture)
    grid = np.asarray(picture.convert("L").resize(_GRID, Image.Resampling.BOX), np.float64)
    return Outlines(grid, blocks, _on_the_grid(writing_of(blocks)))


def agreement(one: Outlines, other: Outlines) -> float:
    """As `alike`, without what is written into either. A line that both have writing in is left out across the whole picture, and
    so is the next one: the bar behind a title is no part of the scene.
    """
    bar = one.writing.any(axis=1) & other.writing.any(axis=1)
    bar |= np.roll(bar, 1)
    return alike(one.grid, other.grid, one.writing | other.writing | bar[:, None])


def judge_against_reference(
    subject: str | Ref, reference: Image.Image, seen: Image.Image, taken: str, policy: Policy
) -> Iterable[Finding]:
    """Night, snow and crowds change a picture too: worth a look, and no more. What is written into both does not count."""
    pair = outlines_of(reference), outlines_of(seen)
    blocks = [outlines.blocks for outlines in pair]
    share = agreement(*pair)
    if share < policy.picture_alike_percent / 100:
        text = f"its edges agree to {100 * max(share, 0):.0f} % with those of its reference picture of {taken}"
        yield finding("PIC-5", subject, text, f"{policy.picture_alike_percent:g} % or more",
                      "site.toml [policy] picture_alike_percent")  # fmt: skip
    elif blocks[0].mean.shape == blocks[1].mean.shape:
        hidden = covered(blocks[1], writing_of(blocks[1]), blocks[0].edges > 0)
        if hidden >= policy.picture_covered_percent / 100:
            text = f"{100 * hidden:.0f} % of it is covered by one plain surface, which its reference picture of {taken} has not"
            yield finding("PIC-6", subject, text, f"less than {policy.picture_covered_percent:g} %",
                          "site.toml [policy] picture_covered_percent")  # fmt: skip


def _blocks(picture: Image.Image) -> Blocks:
    size = (REFERENCE_WIDTH, max(36, round(REFERENCE_WIDTH * picture.height / picture.width)))
    return blocks_of(np.asarray(picture.convert("L").resize(size), np.uint8))


def _on_the_grid(blocks: Mask) -> Mask:
    rows, columns = (np.arange(n) * m // n for n, m in zip(_GRID[::-1], blocks.shape, strict=True))
    found: Mask = blocks[np.ix_(rows, columns)]
    return found
