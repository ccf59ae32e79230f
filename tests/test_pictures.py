"""Pictures, healthy and faulty: what is said of each, and what is not. Those of the benchmark are drawn there."""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
import numpy.typing as npt
import pytest
from PIL import Image

sys.path.insert(0, str(Path(__file__).parent.parent / "benchmarks"))
import pictures

from zentrale.jobs.streams.judging_pictures import (
    alike,
    judge_against_reference,
    judge_pictures,
    look_at_all,
)
from zentrale.protocols.streams.key_pictures import KeyPicture, Shot
from zentrale.site.model import Policy

Picture = npt.NDArray[np.uint8]
SHOT = Shot(KeyPicture("H264", b""), 0.0)


def _shade(level: int) -> Picture:
    return np.full((720, 1280), level, np.uint8)


def _edges(width: int) -> Picture:
    """Stripes whose edges rise over so many points."""
    wave = np.clip((np.abs((np.arange(1280) % 160) - 80) - 40) / max(1, width) + 0.5, 0, 1)
    return np.tile((40 + 180 * wave).astype(np.uint8), (720, 1))


def codes(*shown: Picture, policy: Policy | None = None, colour: tuple[int, int, int] = (0, 0, 0)) -> list[str]:
    looked = look_at_all([(SHOT, picture, colour) for picture in shown])
    return [f.code for f in judge_pictures("x", looked, policy or Policy())]


@pytest.mark.parametrize(
    ("picture", "colour", "wanted"),
    [(_shade(16), (16, 16, 16), ["PIC-1"]), (_shade(250), (250, 250, 250), ["PIC-2"]), (_shade(18), (0, 0, 255), ["PIC-7"]),
     (_shade(120), (120, 120, 120), ["PIC-7"]), (_edges(60), (99, 99, 99), ["PIC-3"]), (_edges(1), (99, 99, 99), []),
     (np.vstack([_edges(1)[:260], _shade(16)[:460]]), (50, 50, 50), ["PIC-6"])],
)  # fmt: skip
def test_a_picture_is_accused_of_what_no_scene_looks_like(
    picture: Picture, colour: tuple[int, int, int], wanted: list[str]
) -> None:
    assert codes(picture, colour=colour) == wanted


def test_one_picture_of_three_accuses_nobody_and_the_policy_says_how_much_is_too_much() -> None:
    """A lorry before the lens for one key picture is not a covered camera."""
    assert codes(_edges(1), _shade(16), _edges(1)) == []
    assert codes(_shade(16), _edges(1), _shade(16)) == ["PIC-1"]
    most = np.vstack([_edges(1)[:100], _shade(250)[:620]])
    assert codes(most) == [] and codes(most, policy=Policy(picture_white_percent=80)) == ["PIC-2"]


DRAWN = [  # all of them: python benchmarks/pictures.py
    "day, with writing", "dense fog", "infrared", "night, one lamp", "still sensor, clock runs", "out of focus, 8, with writing",
    "hand in front", "nine tenths covered", "turned away",
]  # fmt: skip


@pytest.mark.parametrize("kind", DRAWN)
def test_what_is_drawn_is_told_and_nothing_else(kind: str) -> None:
    wanted = pictures.KINDS[kind][1]
    assert pictures.judged(kind, 7, None) == ({wanted} if wanted else set())


def test_a_picture_is_laid_beside_its_reference_by_what_stands_still() -> None:
    """Edges that lie on one another count, whatever the light; a picture that is turned has none of them in common."""
    rows, columns = np.mgrid[0:36, 0:64]
    place = np.where((columns > 20) & (columns < 40) & (rows > 10), 200.0, 50.0)
    turned = np.where((columns > 44) & (rows < 18), 200.0, 50.0)
    assert alike(place, place) == pytest.approx(1) == alike(place, 0.2 * place + 10)
    assert alike(place, 250 - place) == pytest.approx(1), "a step down is as much of an edge as a step up"
    somebody = place.copy()
    somebody[12:18, 50:55] = 120.0
    assert (
        alike(place, somebody) > 0.8 and abs(alike(place, turned)) < 0.2 and alike(place, np.full((36, 64), 9.0)) == 0
    )
    one, other, away = (Image.fromarray(p.astype(np.uint8)).resize((640, 360)) for p in (place, somebody, turned))
    assert [f.code for f in judge_against_reference("x", one, away, "then", Policy())] == ["PIC-5"]
    assert not list(judge_against_reference("x", one, other, "then", Policy()))
