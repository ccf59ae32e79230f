"""How often the look at a picture is right: hits and false alarms over made pictures, healthy and faulty.

Each picture is drawn anew from its number, encoded as a camera would (three key pictures of one stream, with a camera's noise),
decoded, and judged as `zentrale verify` does. Numbers below 1000 were looked at when the thresholds were set; what is counted
here begins at 1000.

    python benchmarks/pictures.py            a table of 180 pictures, and how long the look at one takes beside its decoding
    python benchmarks/pictures.py 3 20       each kind 3 times, from number 20 on
    python benchmarks/pictures.py 1 20 DIR   and the pictures, as PNG files
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
from PIL import Image, ImageDraw, ImageFilter

from zentrale.field import pictures
from zentrale.jobs.streams import judging_pictures as judging
from zentrale.protocols.streams.key_pictures import KeyPicture, Shot
from zentrale.site.model import Policy

SIZE = (1280, 720)
Chance = np.random.Generator


def scene(chance: Chance) -> Image.Image:
    """A street, a yard or a hall: sky or wall, buildings with windows, ground with marks, fences, bushes, cars."""
    width, height = SIZE
    image = Image.new("RGB", SIZE)
    draw = ImageDraw.Draw(image)
    horizon = int(height * chance.uniform(0.25, 0.6))
    top, low = (tuple(int(v) for v in chance.integers(90, 245, 3)) for _ in range(2))
    for y in range(horizon):
        share = y / max(1, horizon)
        draw.line((0, y, width, y), tuple(int(a + (b - a) * share) for a, b in zip(top, low, strict=True)))
    ground = int(chance.integers(50, 150))
    draw.rectangle((0, horizon, width, height), (ground, ground, ground - 10))
    for _ in range(int(chance.integers(3, 8))):
        x, w, h = int(chance.integers(-100, width)), int(chance.integers(120, 420)), int(chance.integers(80, horizon))
        tone = int(chance.integers(40, 220))
        draw.rectangle(
            (x, horizon - h, x + w, horizon + 30), (tone, max(0, tone - int(chance.integers(0, 40))), tone // 2 + 20)
        )
        for wx in range(x + 14, x + w - 24, int(chance.integers(36, 70))):
            for wy in range(horizon - h + 14, horizon - 10, int(chance.integers(40, 70))):
                dark = int(chance.integers(10, 90))
                draw.rectangle((wx, wy, wx + 18, wy + 26), (dark, dark, dark + 15), outline=(tone // 2,) * 3)
    for _ in range(int(chance.integers(2, 7))):  # marks and kerbs on the ground
        x = int(chance.integers(0, width))
        draw.line(
            (x, horizon, x + int(chance.integers(-600, 600)), height), (220, 220, 210), int(chance.integers(3, 12))
        )
    for _ in range(int(chance.integers(2, 8))):  # cars and crates
        x, y = int(chance.integers(0, width)), int(chance.integers(horizon, height - 40))
        w, paint = int(chance.integers(50, 200)), tuple(int(v) for v in chance.integers(20, 230, 3))
        draw.rounded_rectangle((x, y, x + w, y + w // 2), 10, paint, (15, 15, 15))
        draw.ellipse((x + 8, y + w // 2 - 12, x + 30, y + w // 2 + 10), (15, 15, 15))
    for _ in range(int(chance.integers(3, 12))):  # bushes
        x, y = int(chance.integers(0, width)), int(chance.integers(horizon - 30, height))
        r = int(chance.integers(20, 90))
        for _ in range(120):
            dx, dy = chance.normal(0, r / 2, 2)
            green = int(chance.integers(30, 140))
            draw.ellipse((x + dx - 4, y + dy - 4, x + dx + 4, y + dy + 4), (green // 2, green, green // 3))
    rough = chance.normal(0, 6, (height // 2, width // 2)).repeat(2, 0).repeat(2, 1)  # walls and asphalt are not even
    points = np.asarray(image, np.float64) + rough[:, :, None] * (np.arange(height) > horizon * 0.6)[:, None, None]
    return Image.fromarray(points.clip(0, 255).astype(np.uint8)).filter(ImageFilter.GaussianBlur(0.7))


def toned(image: Image.Image, gain: float, lift: float = 0.0) -> Image.Image:
    return Image.fromarray((np.asarray(image, np.float64) * gain + lift).clip(0, 255).astype(np.uint8))


def fog(chance: Chance, density: float) -> Image.Image:
    """It thickens with distance: from the bottom of the picture up."""
    image, height = scene(chance), SIZE[1]
    depth = np.linspace(min(1.0, density + 0.05), density - 0.15, height)[:, None, None]
    veil = float(chance.uniform(150, 215))
    return Image.fromarray((np.asarray(image) * (1 - depth) + veil * depth).clip(0, 255).astype(np.uint8))


def night(chance: Chance, *, lamp: bool) -> Image.Image:
    points = np.asarray(toned(scene(chance).convert("L"), float(chance.uniform(0.06, 0.16)), 3), np.float64)
    if lamp:
        y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]]
        lx, ly = chance.uniform(100, SIZE[0] - 100), chance.uniform(60, SIZE[1] - 200)
        away = np.hypot(x - lx, y - ly)
        glow = np.exp(-((away / chance.uniform(80, 260)) ** 1.3))
        day = np.asarray(scene(chance).convert("L"), np.float64)
        points = points + glow * (day * 0.6 + 60) + 255 * (away < chance.uniform(8, 20))
    return Image.fromarray(points.clip(0, 255).astype(np.uint8)).convert("RGB")


def infrared(chance: Chance) -> Image.Image:
    points = np.asarray(scene(chance).convert("L"), np.float64)
    y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]]
    away = np.hypot((x - SIZE[0] / 2) / SIZE[0], (y - SIZE[1] * 0.6) / SIZE[1])
    return Image.fromarray(
        (points * np.exp(-((away / chance.uniform(0.3, 0.6)) ** 2)) + 6).clip(0, 255).astype(np.uint8)
    ).convert("RGB")


def cover(image: Image.Image, shape: Image.Image, tone: tuple[int, int, int], soft: float) -> Image.Image:
    """Something close to the lens: out of focus, so that its border is soft."""
    mask = shape.filter(ImageFilter.GaussianBlur(soft)) if soft else shape
    shade = np.linspace(0.85, 1.1, SIZE[0])[None, :, None] * np.array(tone)[None, None, :]
    surface = Image.fromarray(np.broadcast_to(shade, (SIZE[1], SIZE[0], 3)).clip(0, 255).astype(np.uint8))
    return Image.composite(surface, image, mask)


def part(chance: Chance, share: float) -> Image.Image:
    """A straight-edged part of the picture, from a side or from below."""
    (width, height), side = SIZE, int(chance.integers(0, 3))
    box = [
        (0, 0, int(width * share), height),
        (int(width * (1 - share)), 0, width, height),
        (0, int(height * (1 - share)), width, height),
    ]
    shape = Image.new("L", SIZE)
    ImageDraw.Draw(shape).rectangle(box[side], 255)
    return shape


def hand(chance: Chance) -> Image.Image:
    shape, (width, height) = Image.new("L", SIZE), SIZE
    draw = ImageDraw.Draw(shape)
    x, y = width * chance.uniform(0.35, 0.65), height * chance.uniform(0.55, 0.75)
    draw.ellipse((x - 480, y - 300, x + 480, y + 500), 255)
    for finger in range(4):
        fx = x - 360 + 230 * finger
        draw.rounded_rectangle((fx - 75, y - 560 + 40 * abs(finger - 1), fx + 75, y), 70, 255)
    return shape


def no_video(chance: Chance) -> Image.Image:
    colours = [(0, 0, 255), (0, 0, 180), (16, 16, 120), (90, 90, 90), (0, 130, 0), (128, 128, 128)]
    image = Image.new("RGB", SIZE, colours[int(chance.integers(0, len(colours)))])
    write(image, (SIZE[0] // 2 - 150, SIZE[1] // 2 - 30), "NO VIDEO", 60)
    return image


def write(image: Image.Image, at: tuple[int, int], text: str, size: int = 30) -> None:
    from PIL import ImageFont

    ImageDraw.Draw(image).text(
        at, text, (255, 255, 255), ImageFont.load_default(size), stroke_width=2, stroke_fill=(0, 0, 0)
    )


def skin(chance: Chance) -> tuple[int, int, int]:
    return [(150, 105, 85), (90, 60, 48), (60, 40, 32), (120, 84, 70)][int(chance.integers(0, 4))]


def dark(chance: Chance) -> tuple[int, int, int]:
    return (int(chance.integers(5, 90)),) * 3


Make = Callable[[Chance], Image.Image]
KINDS: dict[str, tuple[Make, str, bool]] = {  # how it is made, what is to be said, whether something is written into it
    "day": (scene, "", False),
    "day, with writing": (scene, "", True),
    "fog": (lambda c: fog(c, 0.55), "", True),
    "dense fog": (lambda c: fog(c, 0.93), "", True),
    "infrared": (infrared, "", True),
    "night": (lambda c: night(c, lamp=False), "", True),
    "night, one lamp": (lambda c: night(c, lamp=True), "", True),
    "still sensor, clock runs": (scene, "PIC-4", True),
    "out of focus, 8": (lambda c: scene(c).filter(ImageFilter.GaussianBlur(8)), "PIC-3", False),
    "out of focus, 8, with writing": (lambda c: scene(c).filter(ImageFilter.GaussianBlur(8)), "PIC-3", True),
    "out of focus, 20": (lambda c: scene(c).filter(ImageFilter.GaussianBlur(20)), "PIC-3", False),
    "out of focus, 20, with writing": (lambda c: scene(c).filter(ImageFilter.GaussianBlur(20)), "PIC-3", True),
    "hand in front": (lambda c: cover(scene(c), hand(c), skin(c), float(c.uniform(12, 40))), "PIC-6", True),
    "half covered": (lambda c: cover(scene(c), part(c, 0.5), dark(c), float(c.uniform(0, 25))), "PIC-6", True),
    "nine tenths covered": (lambda c: cover(scene(c), part(c, 0.9), dark(c), float(c.uniform(0, 20))), "PIC-6", True),
    "blown out, 96 %": (lambda c: cover(scene(c), part(c, 0.96), (290, 290, 290), 0), "PIC-2", False),
    "black": (lambda c: Image.new("RGB", SIZE, (int(c.integers(0, 12)),) * 3), "PIC-1", True),
    "no video, one colour": (no_video, "PIC-7", False),
    "another camera": (scene, "PIC-5", True),
    "turned away": (scene, "PIC-5", True),
}  # fmt: skip


def shots(image: Image.Image, chance: Chance, *, writing: bool, still: bool, noise: float) -> list[Shot]:
    """Three key pictures of a stream, some seconds apart, as a camera's encoder makes them."""
    found = []
    frozen = chance.normal(0, noise, (SIZE[1], SIZE[0], 1))
    encoder = av.CodecContext.create("libx264", "w")
    assert isinstance(encoder, av.VideoCodecContext)
    encoder.width, encoder.height, encoder.pix_fmt, encoder.time_base = *SIZE, "yuv420p", Fraction(1, 25)
    encoder.options = {"preset": "ultrafast", "tune": "zerolatency", "g": "1", "qp": "26"}
    for index in range(3):
        grain = frozen if still else chance.normal(0, noise, (SIZE[1], SIZE[0], 1))
        shown = Image.fromarray((np.asarray(image, np.float64) + grain).clip(0, 255).astype(np.uint8))
        if writing:
            write(shown, (20, 14), f"2026-11-30 08:14:{10 + 3 * index}")
            write(shown, (SIZE[0] - 300, SIZE[1] - 50), "Camera 07")
        data = b"".join(bytes(p) for p in encoder.encode(av.VideoFrame.from_image(shown)))
        found.append(Shot(KeyPicture("H264", data), 3.0 * index, still and index > 0))
    return found


def judged(kind: str, number: int, folder: Path | None) -> set[str]:
    make, _, writing = KINDS[kind]
    chance = np.random.default_rng([number, *kind.encode()])
    image = make(chance)
    noise = float(chance.uniform(1.5, 3.5)) if kind.startswith(("night", "infra")) else float(chance.uniform(0.5, 2))
    if kind.startswith(("no video", "blown")):
        noise = 0.0
    taken = shots(image, chance, writing=writing, still=kind.startswith("still"), noise=noise)
    decoded = [(shot, picture) for shot in taken if (picture := pictures.decode(shot.picture)) is not None]
    if folder is not None:
        decoded[0][1].to_image().save(folder / f"{kind.replace(' ', '-').replace(',', '')}-{number}.png")
    seen = [(shot, pictures.luma(picture), pictures.colour(picture)) for shot, picture in decoded]
    found = {f.code for f in judging.judge_pictures("s", judging.look_at_all(seen), Policy())}
    first, then = decoded[0][1].to_image(), reference(image, chance)
    if kind in ("another camera", "turned away"):
        away = (1, 0, 420, 0, 1, 60)
        then = scene(chance) if kind == "another camera" else image.transform(SIZE, Image.Transform.AFFINE, away)
        write(then, (20, 14), "2026-11-01 10:00:00")
        write(then, (SIZE[0] - 300, SIZE[1] - 50), "Camera 07")
    elif KINDS[kind][1]:
        return found
    return found | {f.code for f in judging.judge_against_reference("s", then, first, "1 November", Policy())}


def reference(image: Image.Image, chance: Chance) -> Image.Image:
    """The same place at another time: brighter or darker, and with other grain."""
    points = np.asarray(image, np.float64) * chance.uniform(0.7, 1.3) + chance.normal(0, 3, (SIZE[1], SIZE[0], 1))
    return Image.fromarray(points.clip(0, 255).astype(np.uint8))


def main() -> None:
    count, begin = (int(sys.argv[1]), int(sys.argv[2])) if len(sys.argv) > 2 else (9, 1000)
    folder = Path(sys.argv[3]) if len(sys.argv) > 3 else None
    rows, healthy, alarms, faulty, hits = [], 0, 0, 0, 0
    for kind, (_, wanted, _) in KINDS.items():
        found = [judged(kind, begin + index, folder) for index in range(count)]
        hit = sum(wanted in codes for codes in found) if wanted else 0
        false = sum(bool(codes - {wanted}) for codes in found)
        others = sorted({code for codes in found for code in codes - {wanted}})
        rows.append((kind, wanted or "nothing", str(count), str(hit) if wanted else "-", str(false), ", ".join(others)))
        healthy, alarms = healthy + count * (not wanted), alarms + false * (not wanted)
        faulty, hits = faulty + count * bool(wanted), hits + hit
    print(f"{'picture':<32}{'to be told':<12}{'made':>5}{'hits':>6}{'other':>7}")
    for row in rows:
        print(f"{row[0]:<32}{row[1]:<12}{row[2]:>5}{row[3]:>6}{row[4]:>7}  {row[5]}".rstrip())
    print(f"{faulty} faulty ones: {hits} hits, {faulty - hits} missed; {healthy} healthy ones: {alarms} false alarms")
    price()


def price() -> None:
    """What the look at one picture costs beside its decoding."""
    chance = np.random.default_rng(1)
    (shot, *_) = shots(scene(chance), chance, writing=True, still=False, noise=1.0)
    begun = time.process_time()
    for _ in range(20):
        image = pictures.decode(shot.picture)
    decoding = time.process_time() - begun
    assert image is not None
    begun = time.process_time()
    for _ in range(20):
        judging.look_at_all([(shot, pictures.luma(image), pictures.colour(image))])
    looking = time.process_time() - begun
    print(f"ratio: the look at a picture takes {looking / decoding:.2f} of its decoding ({1000 * looking / 20:.1f} ms)")


if __name__ == "__main__":
    main()
