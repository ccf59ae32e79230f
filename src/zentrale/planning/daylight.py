"""Whether it is day at a place: the sun's elevation, to about a degree, from day of year and hour (NOAA, general solar position
calculations). Good enough to say which of two readings was made with lamps on.
"""

from __future__ import annotations

import math
from datetime import UTC, datetime

DAY_HOURS = range(7, 19)  # of the site's clock, where its place is not known


def sun_elevation_deg(longitude_deg: float, latitude_deg: float, moment: datetime) -> float:
    """`moment` with its zone."""
    utc = moment.astimezone(UTC)
    hours = utc.hour + utc.minute / 60
    year = 2 * math.pi / 365 * (utc.timetuple().tm_yday - 1 + (hours - 12) / 24)
    equation_min = 229.18 * (
        0.000075 + 0.001868 * math.cos(year) - 0.032077 * math.sin(year)
        - 0.014615 * math.cos(2 * year) - 0.040849 * math.sin(2 * year)
    )  # fmt: skip
    declination = (
        0.006918 - 0.399912 * math.cos(year) + 0.070257 * math.sin(year) - 0.006758 * math.cos(2 * year)
        + 0.000907 * math.sin(2 * year) - 0.002697 * math.cos(3 * year) + 0.00148 * math.sin(3 * year)
    )  # fmt: skip
    solar_min = hours * 60 + equation_min + 4 * longitude_deg
    hour_angle = math.radians(solar_min / 4 - 180)
    latitude = math.radians(latitude_deg)
    sine = math.sin(latitude) * math.sin(declination) + math.cos(latitude) * math.cos(declination) * math.cos(
        hour_angle
    )
    return math.degrees(math.asin(max(-1.0, min(1.0, sine))))


def is_day(origin: tuple[float, float] | None, moment: datetime) -> bool:
    """`origin`: longitude and latitude; None: by the clock of `moment`."""
    return moment.hour in DAY_HOURS if origin is None else sun_elevation_deg(*origin, moment) > 0
