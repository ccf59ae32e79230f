"""A wall, its panels, and what the machine that feeds it can decode (site.toml, types.toml)."""

from __future__ import annotations

import re
from functools import cached_property
from typing import Annotated, Literal, Self

from pydantic import BeforeValidator, Field, model_validator

from zentrale.site.part import Part
from zentrale.site.values import PlaceName, Text

MOST_CELLS = 16  # rows or columns; a sheet of a hundred cameras is no wall
_SOURCES = {"unicast": "camera", "cameras": "camera", "camera": "camera", "multicast": "multicast", "recorder": "recorder",
            "recorders": "recorder"}  # fmt: skip


class DecoderLimit(Part):
    """Of one codec, when it decodes nothing else: pixels a second, and pictures a second where the data sheet limits them."""

    codec: Literal["H264", "H265", "JPEG"]
    pixels_per_s: Annotated[float, Field(gt=0)]
    frames_per_s: Annotated[float, Field(gt=0)] | None = None


class ViewerType(Part):
    """What a machine bears that feeds walls: `streams` at once, `mbps` of them, `memory_mb` for decoded pictures, and its
    decoders by codec. `hardware` is one decoder that all codecs share, `software` the processor; one of them has a stream.
    """

    name: Text
    streams: Annotated[int, Field(ge=1, le=4096)] | None = None
    mbps: Annotated[float, Field(gt=0)] | None = None
    memory_mb: Annotated[float, Field(gt=0)] | None = None
    hardware: tuple[DecoderLimit, ...] = ()
    software: tuple[DecoderLimit, ...] = ()

    @model_validator(mode="after")
    def _says_each_once(self) -> Self:
        if not any((self.streams, self.mbps, self.memory_mb, self.hardware, self.software)):
            raise ValueError(
                "it says nothing of what it bears; expected streams, mbps, memory_mb, hardware or software"
            )
        for name in ("hardware", "software"):
            codecs = [limit.codec for limit in getattr(self, name)]
            if len(set(codecs)) < len(codecs):
                raise ValueError(f"{name} has a codec twice; expected each once")
        return self


def _size(value: object) -> object:
    """[width, height], or as text with an x between. Raises ValueError."""
    parts = re.split(r"\s*[x×X]\s*", value.strip()) if isinstance(value, str) else value
    try:
        width, height = (int(part) for part in parts)  # type: ignore[attr-defined]
    except (TypeError, ValueError):
        raise ValueError("expected [width, height] in pixels, such as [3840, 2160]") from None
    return width, height


PixelSize = Annotated[
    tuple[Annotated[int, Field(ge=64, le=65_535)], Annotated[int, Field(ge=64, le=65_535)]], BeforeValidator(_size)
]


class WallPanel(Part):
    """One picture of a wall. Several `cameras` are a round: each for `seconds`. `rows` and `columns` is how many cells it takes.

    cameras:  names, groups or patterns of names, in the order of the round
    priority: 1 is sharp first, where the machine cannot bear all
    """

    panel: Text
    row: Annotated[int, Field(ge=1, le=MOST_CELLS)]
    column: Annotated[int, Field(ge=1, le=MOST_CELLS)]
    rows: Annotated[int, Field(ge=1, le=MOST_CELLS)] = 1
    columns: Annotated[int, Field(ge=1, le=MOST_CELLS)] = 1
    cameras: tuple[Text, ...]
    seconds: Annotated[float, Field(ge=0.5, le=3600)] | None = None
    priority: Annotated[int, Field(ge=1, le=9)] = 5

    def cells(self) -> list[tuple[int, int]]:
        """Row and column of each cell that it takes."""
        return [(r, c) for r in range(self.row, self.row + self.rows)
                for c in range(self.column, self.column + self.columns)]  # fmt: skip


class Wall(Part):
    """A wall of `rows` x `columns` cells, on one machine: the `viewer`. `pixels` is its width and height, `bezel_px` what is
    lost between two cells. `source` is who sends: the cameras, by unicast ("camera") or multicast, or the recorder; where it is
    left out, as the viewer has it.
    """

    name: PlaceName
    viewer: PlaceName
    pixels: PixelSize
    bezel_px: Annotated[int, Field(ge=0, le=1000)] = 0
    rows: Annotated[int, Field(ge=1, le=MOST_CELLS)]
    columns: Annotated[int, Field(ge=1, le=MOST_CELLS)]
    source: (
        Annotated[
            Literal["camera", "multicast", "recorder"],
            BeforeValidator(lambda v: _SOURCES.get(v, v) if isinstance(v, str) else v),
        ]
        | None
    ) = None
    panels: tuple[WallPanel, ...] = ()

    @model_validator(mode="after")
    def _has_room(self) -> Self:
        if min(self.cell) < 16:
            raise ValueError(
                f"cells of {self.cell[0]}x{self.cell[1]} px; expected 16 px or more: pixels, bezel_px, rows, columns"
            )
        return self

    @cached_property
    def cell(self) -> tuple[int, int]:
        """Width and height of one cell [px], without the bezel."""
        width, height = self.pixels
        return (
            (width - (self.columns - 1) * self.bezel_px) // self.columns,
            (height - (self.rows - 1) * self.bezel_px) // self.rows,
        )

    def size(self, panel: WallPanel) -> tuple[int, int]:
        """Width and height of a panel [px]; the bezels between its own cells are part of it."""
        (width, height), bezel = self.cell, self.bezel_px
        return (
            panel.columns * width + (panel.columns - 1) * bezel,
            panel.rows * height + (panel.rows - 1) * bezel,
        )
