"""Drawing what a stand-in camera sees: a canal lock, a boat under way, the camera's name and the running time."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator

import av
import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFilter, ImageFont

Plane = NDArray[np.uint8]
_NOISE = 7  # peak sensor noise in luma steps: gives the encoder about as much to do as a real sensor


def still(name: str, width_px: int, height_px: int) -> Image.Image:
    """The scene without what moves, as an RGB picture. The same name always gives the same scene."""
    random = np.random.default_rng(int.from_bytes(hashlib.sha256(name.encode()).digest()[:8], "big"))
    horizon = int(height_px * random.uniform(0.3, 0.45))
    sky = np.linspace([120, 150, 185], [205, 215, 220], horizon)
    ground = np.linspace([70, 88, 92], [44, 66, 74], height_px - horizon)
    column = np.concatenate([sky, ground]).astype(np.uint8)
    picture = Image.fromarray(np.repeat(column[:, None, :], width_px, axis=1))
    draw = ImageDraw.Draw(picture)
    unit = height_px / 100
    for _ in range(9):  # sheds and houses along the bank
        left = random.uniform(-0.05, 1) * width_px
        wide, high = random.uniform(6, 22) * unit, random.uniform(5, 16) * unit
        shade = tuple(int(v) for v in random.integers(70, 160, 3))
        draw.rectangle([left, horizon - high, left + wide, horizon], fill=shade)
        draw.polygon([(left - unit, horizon - high), (left + wide / 2, horizon - high * 1.5),
                      (left + wide + unit, horizon - high)], fill=(88, 60, 52))  # fmt: skip
        for window in range(int(wide // (4 * unit))):
            x = left + (1 + 4 * window) * unit
            draw.rectangle([x, horizon - high * 0.7, x + 1.8 * unit, horizon - high * 0.4], fill=(225, 214, 150))
    quay = horizon + 8 * unit
    draw.rectangle([0, horizon, width_px, quay], fill=(128, 122, 110))
    for x in np.arange(0, width_px, 5 * unit):
        draw.line([(x, horizon), (x, quay)], fill=(96, 92, 84), width=max(1, int(unit * 0.4)))
    gate = random.uniform(0.55, 0.85) * width_px
    draw.rectangle([gate, horizon - 4 * unit, gate + 5 * unit, height_px], fill=(52, 46, 40))
    for y in np.arange(quay, height_px, 6 * unit):
        draw.rectangle([gate, y, gate + 5 * unit, y + unit], fill=(168, 160, 140))
    return picture


def what(name: str, fault: str) -> str:
    """What a recipe calls the scene `name` where the camera shows it black or blurred."""
    return f"{fault}!{name}" if fault else name


def frames(name: str, stream: str, width_px: int, height_px: int, fps: int, count: int) -> Iterator[av.VideoFrame]:
    """`count` pictures in planar YUV 4:2:0, with a boat that crosses the water once, noise, name and running time."""
    fault, _, place = name.rpartition("!")
    picture = still(place, width_px, height_px) if fault != "turned" else _wall(width_px, height_px)
    unit = height_px / 100
    if fault == "frozen":
        yield from _repeated(picture, count)
        return
    if fault and fault != "turned":
        yield from _faulty(picture, count, black=fault == "black")
        return
    font = ImageFont.load_default(size=max(10, int(5 * unit)))
    draw = ImageDraw.Draw(picture)
    bar = int(9 * unit)
    draw.rectangle([0, 0, width_px, bar], fill=(16, 20, 24))
    draw.text((2 * unit, unit), f"{place}  {stream}", font=font, fill=(240, 240, 240))
    rgb = av.VideoFrame.from_ndarray(np.asarray(picture), format="rgb24")
    base: Plane = np.asarray(rgb.reformat(format="yuv420p").to_ndarray(), dtype=np.uint8)
    random = np.random.default_rng(7)
    noise = random.integers(-_NOISE, _NOISE + 1, (height_px + 64, width_px + 64), dtype=np.int16)
    for index in range(count):
        planes = base.copy()
        luma = planes[:height_px].astype(np.int16)
        if not fault:
            _draw_boat(luma, index / count, unit)
        dy, dx = (int(v) for v in random.integers(0, 64, 2))
        luma += noise[dy : dy + height_px, dx : dx + width_px]
        planes[:height_px] = np.clip(luma, 16, 235).astype(np.uint8)
        _draw_time(planes[:height_px], f"{index / fps:05.2f} s", font, bar, unit)
        frame = av.VideoFrame.from_ndarray(planes, format="yuv420p")
        frame.pts = index
        yield frame


def _wall(width_px: int, height_px: int) -> Image.Image:
    """What a camera sees that was turned to the house it hangs on: a door, a sign, a notice board."""
    picture = Image.new("RGB", (width_px, height_px), (170, 160, 150))
    draw = ImageDraw.Draw(picture)
    for left, top, right, bottom, shade in (
        (0.10, 0.15, 0.30, 0.25, (40, 40, 40)), (0.45, 0.60, 0.95, 0.90, (60, 90, 120)), (0.05, 0.50, 0.20, 1.0, (90, 50, 40)),
    ):  # fmt: skip
        draw.rectangle([left * width_px, top * height_px, right * width_px, bottom * height_px], fill=shade)
    return picture


def _repeated(picture: Image.Image, count: int) -> Iterator[av.VideoFrame]:
    """One and the same, as of an encoder whose sensor has stopped."""
    for index in range(count):
        frame = av.VideoFrame.from_ndarray(np.asarray(picture), format="rgb24").reformat(format="yuv420p")
        frame.pts = index
        yield frame


def _faulty(picture: Image.Image, count: int, *, black: bool) -> Iterator[av.VideoFrame]:
    """With the cap on, or far out of focus: nothing sharp is in it, no label and no boat."""
    if black:
        picture = Image.new("RGB", picture.size, (0, 0, 0))
    blurred = picture.filter(ImageFilter.GaussianBlur(picture.height / 14))
    rgb = av.VideoFrame.from_ndarray(np.asarray(blurred), format="rgb24")
    base: Plane = np.asarray(rgb.reformat(format="yuv420p").to_ndarray(), dtype=np.uint8)
    random = np.random.default_rng(7)
    for index in range(count):
        planes = base.astype(np.int16)
        planes[: picture.height] += random.integers(-2, 3, (picture.height, picture.width), dtype=np.int16)
        frame = av.VideoFrame.from_ndarray(np.clip(planes, 16, 235).astype(np.uint8), format="yuv420p")
        frame.pts = index
        yield frame


def _draw_boat(luma: NDArray[np.int16], progress: float, unit: float) -> None:
    height, width = luma.shape
    left = int(progress * width)
    top = int(height * 0.66)
    hull, cabin = luma[top : top + int(7 * unit), left : left + int(28 * unit)], int(5 * unit)
    hull[:] = 205
    luma[top - cabin : top, left + int(8 * unit) : left + int(18 * unit)] = 150


def _draw_time(
    luma: Plane, text: str, font: ImageFont.FreeTypeFont | ImageFont.ImageFont, bar: int, unit: float
) -> None:
    width = int(26 * unit)
    label = Image.new("L", (width, bar), 24)
    ImageDraw.Draw(label).text((unit, unit), text, font=font, fill=235)
    luma[:bar, luma.shape[1] - width :] = np.asarray(label)
