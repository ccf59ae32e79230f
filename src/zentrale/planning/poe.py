"""Power over Ethernet: types and classes of IEEE 802.3-2022 clauses 33 and 145."""

from __future__ import annotations

from dataclasses import dataclass

from zentrale.site.device_types import DEVICE_W

# Power that the switch must have for a class: PClass, clauses 33.2.6 (classes 0 to 4) and 145.2.8.
_SUPPLY_W = (15.4, 4.0, 7.0, 15.4, 30.0, 45.0, 60.0, 75.0, 90.0)
EXTENDED_CLASSES = (6, 8)  # these may draw more where the channel loses less than the worst one, clause 145.3.8.2
# The highest class that a port of a type can feed.
_HIGHEST_CLASS = {1: 3, 2: 4, 3: 6, 4: 8}


def supply_power_w(poe_class: int) -> float:
    """What a switch reserves for a device of `poe_class` (0 to 8)."""
    return _SUPPLY_W[poe_class]


def device_limit_w(poe_class: int) -> float:
    """What a device of `poe_class` (0 to 8) may draw at its own end of the cable."""
    return DEVICE_W[poe_class]


def needed_type(poe_class: int) -> int:
    """The lowest IEEE 802.3 type of a port that feeds `poe_class`."""
    return next(t for t, highest in _HIGHEST_CLASS.items() if poe_class <= highest)


# Resistance of one copper conductor at 20 °C [Ω per 100 m], ASTM B258, and copper's rise with warmth.
_CONDUCTOR_OHM = {22: 5.296, 23: 6.679, 24: 8.422, 26: 13.39}
_WARM = 1 + 0.00393 * 30  # cables in a bundle in summer: 50 °C
# The worst loop of a 100 m channel, cords included: category 5 and better (clause 145.1.3), and category 3, which type 1
# may run on (clause 33.1.4).
_CHANNEL_OHM, _CATEGORY_3_OHM = 12.5, 20.0


@dataclass(frozen=True)
class Channel:
    """A channel from port to device: its length, cords included; the conductor, None where nobody knows it; and the cable's
    category, empty where nobody knows it.
    """

    length_m: float
    conductor_awg: int | None = None
    category: str = ""


def loop_resistance_ohm(channel: Channel, poe_class: int, port_type: int = 0) -> float:
    """Loop resistance of a pair set, or of the two pair sets of classes 5 to 8 together: half.

    A pair set carries the current out on two conductors and back on two, so its loop is that of one conductor. Where the
    conductor is not known the standard's worst channel is taken: 20 ohm for 100 m where port or device are type 1 and the
    cable may be of category 3, else 12.5.
    """
    type_1 = poe_class <= 3 or port_type == 1
    if channel.conductor_awg is not None:
        per_100_m = _CONDUCTOR_OHM[channel.conductor_awg] * _WARM
    else:
        per_100_m = _CATEGORY_3_OHM if type_1 and channel.category in ("", "3") else _CHANNEL_OHM
    return per_100_m * channel.length_m / 100 / (2 if poe_class > 4 else 1)


def port_power_w(device_w: float, channel: Channel, poe_class: int, port_type: int = 0) -> float | None:
    """Power at the switch port for a device that draws `device_w` at the end of `channel`; None where the cable cannot carry
    that much at all. `port_type` 0: not known.

    The device draws constant power, so with loop resistance R and port voltage U the current is the smaller root of
    R I² - U I + P = 0. U is the lowest port voltage of the lowest type that feeds the class (VPort_PSE, clauses
    33.2.7 and 145.2.10).
    """
    if device_w <= 0:
        return 0.0
    voltage = 44.0 if poe_class <= 3 else 50.0 if poe_class <= 6 else 52.0
    resistance = loop_resistance_ohm(channel, poe_class, port_type)
    discriminant = voltage * voltage - 4 * resistance * device_w
    if discriminant < 0:
        return None
    # The smaller root, written so that a short cable's small R loses no digits.
    current = 2 * device_w / (voltage + discriminant**0.5)
    return float(voltage * current)
