"""How far Ethernet goes over copper and fibre (IEEE 802.3-2022), by medium and rate."""

from __future__ import annotations

CHANNEL_M = 100.0  # balanced copper, cords included: ISO/IEC 11801-1, IEEE 802.3 clauses 25, 40 and 55

# Up to this rate [Mbit/s] so far [m], by which clause.
_REACH: dict[str, tuple[tuple[int, float, str], ...]] = {
    "copper": ((10_000, CHANNEL_M, "clauses 25, 40, 55"), (40_000, 30.0, "clause 113")),
    "om3": (
        (100, 2000.0, "clause 26"), (1000, 550.0, "clause 38"), (10_000, 300.0, "clause 52"), (25_000, 70.0, "clause 112"),
        (40_000, 100.0, "clause 86"), (100_000, 70.0, "clause 95"),
    ),
    "om4": (
        (100, 2000.0, "clause 26"), (1000, 550.0, "clause 38"), (10_000, 400.0, "clause 52"), (25_000, 100.0, "clause 112"),
        (40_000, 150.0, "clause 86"), (100_000, 100.0, "clause 95"),
    ),
    "os2": (
        (100, 10_000.0, "clause 58"), (1000, 10_000.0, "clause 59"), (10_000, 10_000.0, "clause 52"),
        (25_000, 10_000.0, "clause 114"), (40_000, 10_000.0, "clause 87"), (100_000, 10_000.0, "clause 88"),
    ),
}  # fmt: skip


def reach_m(medium: str, rate_mbps: int) -> tuple[float, str]:
    """How far, and its source; beyond the fastest that is listed as far as that."""
    rows = _REACH[medium]
    row = next((row for row in rows if rate_mbps <= row[0]), rows[-1])
    return row[1], f"IEEE 802.3-2022 {row[2]}"
