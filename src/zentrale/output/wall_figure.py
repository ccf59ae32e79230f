"""A wall drawn as it will look: its panels at their proportions, with the pictures that were taken, else name and channel."""

from __future__ import annotations

import io
from collections.abc import Callable, Sequence

from PIL import Image, ImageDraw, ImageFont

from zentrale.planning.walls.wall_plan import PanelView, WallPlan
from zentrale.site.model import Camera, Plan

_WIDTH, _MOST_HEIGHT, _HEAD, _EDGE = 1180, 900, 64, 20
_DARK, _LIGHT, _EMPTY, _LINE = (22, 32, 42), (245, 247, 249), (206, 213, 220), (70, 84, 96)
_BREAKS = {
    "worst": "MORE THAN ITS MACHINE BEARS",
    "enlarged": "BREAKS WHEN A PANEL IS ENLARGED",
    "changing": "BREAKS WHEN ALL ROUNDS CHANGE",
}
PictureOf = Callable[[Camera], bytes | None]


def wall_figure(plan: Plan, made: WallPlan, picture: PictureOf) -> bytes:
    """One wall, as PNG."""
    return _png(_drawn(plan, made, picture))


def walls_figure(plan: Plan, walls: Sequence[WallPlan], picture: PictureOf) -> bytes:
    """All walls below one another, as PNG."""
    drawn = [_drawn(plan, made, picture) for made in walls]
    sheet = Image.new("RGB", (max(d.width for d in drawn), sum(d.height for d in drawn)), "white")
    top = 0
    for one in drawn:
        sheet.paste(one, (0, top))
        top += one.height
    return _png(sheet)


def _drawn(plan: Plan, made: WallPlan, picture: PictureOf) -> Image.Image:
    wall = made.wall
    scale = min(_WIDTH / wall.pixels[0], _MOST_HEIGHT / wall.pixels[1])
    size = round(wall.pixels[0] * scale), round(wall.pixels[1] * scale)
    image = Image.new("RGB", (_WIDTH + 2 * _EDGE, size[1] + _HEAD + 2 * _EDGE), "white")
    draw = ImageDraw.Draw(image)
    draw.text((_EDGE, 10), f"{plan.site.name}: wall {wall.name}", font=ImageFont.load_default(size=24), fill="black")
    broken = made.first_break
    state = "not judged" if not made.judged else _BREAKS[broken[0]] if broken else "its machine bears it"
    text = f"{wall.pixels[0]}x{wall.pixels[1]} px, by {wall.viewer}, from {_source(wall.source)}; {state}"
    draw.text((_EDGE, 40), text, font=ImageFont.load_default(size=16), fill=_LINE)
    left, top = _EDGE + (_WIDTH - size[0]) // 2, _HEAD + _EDGE
    draw.rectangle((left - 4, top - 4, left + size[0] + 3, top + size[1] + 3), fill=_DARK)
    width, height = wall.cell
    for view in made.panels:
        place = view.panel.plan
        x = left + round((place.column - 1) * (width + wall.bezel_px) * scale)
        y = top + round((place.row - 1) * (height + wall.bezel_px) * scale)
        box = round(view.panel.pixels[0] * scale), round(view.panel.pixels[1] * scale)
        image.paste(_panel(view, (max(8, box[0] - 2), max(8, box[1] - 2)), picture), (x + 1, y + 1))
    return image


def _source(source: str | None) -> str:
    return {"camera": "the cameras", "multicast": "the cameras by multicast"}.get(source or "", "the recorder")


def _panel(view: PanelView, size: tuple[int, int], picture: PictureOf) -> Image.Image:
    cell = Image.new("RGB", size, _EMPTY)
    draw = ImageDraw.Draw(cell)
    camera = view.panel.cameras[0]
    jpeg = picture(camera)
    large, tiny = max(11, min(20, size[0] // 16)), max(10, min(14, size[0] // 22))
    font, small = ImageFont.load_default(size=large), ImageFont.load_default(size=tiny)
    if jpeg is not None:
        own = Image.open(io.BytesIO(jpeg)).convert("RGB")
        factor = min(size[0] / own.width, size[1] / own.height)
        shown = own.resize((max(1, round(own.width * factor)), max(1, round(own.height * factor))))
        cell.paste((0, 0, 0), (0, 0, *size))
        cell.paste(shown, ((size[0] - shown.width) // 2, (size[1] - shown.height) // 2))
    else:
        middle = size[0] // 2, size[1] // 2
        draw.text(middle, camera.called, font=font, fill=_DARK, anchor="mm")
        text = f"{camera.recorder} channel {camera.channel}"
        draw.text((middle[0], middle[1] + large + 4), text, font=small, fill=_LINE, anchor="mm")
    turns = f", 1 of {len(view.panel.cameras)}, {view.panel.plan.seconds:g} s each" if view.panel.is_round else ""
    looks = f", enlarged {view.scale:.1f} times" if view.looks == "enlarged" else ""
    text = f"{view.name}: {camera.called}{turns}, {view.offer.stream} stream{looks}"
    while len(text) > 4 and draw.textlength(text, font=small) > size[0] - 10:
        text = text[:-2]
    band = tiny + 8
    draw.rectangle((0, size[1] - band, size[0], size[1]), fill=_DARK)
    draw.text((5, size[1] - band + 3), text, font=small, fill=_LIGHT)
    return cell


def _png(image: Image.Image) -> bytes:
    data = io.BytesIO()
    image.save(data, "PNG")
    return data.getvalue()
