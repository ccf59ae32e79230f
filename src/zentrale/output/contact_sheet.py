"""The contact sheet: one picture of every camera on one page, to be looked through with the customer."""

from __future__ import annotations

import io
import math
from collections.abc import Sequence
from dataclasses import dataclass

from PIL import Image, ImageDraw, ImageFont

_CELL_W, _CELL_H, _TEXT_H, _GAP = 420, 236, 50, 12


@dataclass(frozen=True)
class SheetPicture:
    """One cell. `jpeg` is None where there is no picture; `caption` then says why."""

    camera: str
    caption: str
    jpeg: bytes | None


def contact_sheet(title: str, pictures: Sequence[SheetPicture], columns: int = 3) -> bytes:
    """All pictures in rows, each with the camera's name and caption, as PNG."""
    columns = max(1, min(columns, len(pictures)))
    rows = max(1, math.ceil(len(pictures) / columns))
    width = columns * (_CELL_W + _GAP) + _GAP
    sheet = Image.new("RGB", (width, 56 + rows * (_CELL_H + _TEXT_H + _GAP) + _GAP), "white")
    draw = ImageDraw.Draw(sheet)
    large, small = ImageFont.load_default(size=24), ImageFont.load_default(size=15)
    draw.text((_GAP, 14), title, font=large, fill="black")
    for index, picture in enumerate(pictures):
        x = _GAP + (index % columns) * (_CELL_W + _GAP)
        y = 56 + (index // columns) * (_CELL_H + _TEXT_H + _GAP)
        cell = Image.new("RGB", (_CELL_W, _CELL_H), (225, 225, 225))
        if picture.jpeg is None:
            ImageDraw.Draw(cell).text(
                (_CELL_W // 2, _CELL_H // 2), "NO PICTURE", font=large, fill=(150, 0, 20), anchor="mm"
            )
        else:
            image = Image.open(io.BytesIO(picture.jpeg)).convert("RGB")
            image.thumbnail((_CELL_W, _CELL_H))
            cell.paste(image, ((_CELL_W - image.width) // 2, (_CELL_H - image.height) // 2))
        sheet.paste(cell, (x, y))
        draw.text((x, y + _CELL_H + 4), picture.camera, font=ImageFont.load_default(size=18), fill="black")
        draw.text((x, y + _CELL_H + 27), picture.caption, font=small, fill=(80, 80, 80))
    data = io.BytesIO()
    sheet.save(data, "PNG")
    return data.getvalue()
