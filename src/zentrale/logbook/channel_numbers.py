"""What the logbook keeps of channels: which recording is which of a recorder's, and who got the next free one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from zentrale.logbook.store import Logbook
from zentrale.site.identity import Identity


@dataclass(frozen=True)
class KeptNumber:
    """A channel of a recorder as it was numbered first: by which `rule`, what its recording was `called`, and whether it came
    with a job.
    """

    number: int
    token: str
    called: str
    had_job: bool
    rule: str


def kept_numbers(logbook: Logbook, recorder: str, identity: Identity) -> list[KeptNumber]:
    """Those of this recorder; nothing where another device is known under its name now."""
    rows = logbook.execute(
        "SELECT macs, serial, number, token, called, had_job, rule FROM numbering WHERE name = ? ORDER BY number",
        (recorder,),
    ).fetchall()
    if not rows or Identity(frozenset(rows[0][0].split()), rows[0][1]).same_device(identity) is False:
        return []
    return [KeptNumber(r[2], r[3], r[4], bool(r[5]), r[6]) for r in rows]


def keep_numbers(logbook: Logbook, recorder: str, identity: Identity, channels: Sequence[KeptNumber]) -> None:
    """In place of what was kept for this recorder before."""
    macs = " ".join(sorted(identity.macs))
    with logbook.transaction():
        logbook.execute("DELETE FROM numbering WHERE name = ?", (recorder,))
        logbook.execute_many(
            "INSERT INTO numbering VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            [(recorder, macs, identity.serial, c.number, c.token, c.called, int(c.had_job), c.rule) for c in channels],
        )


def next_channels(logbook: Logbook) -> Mapping[str, tuple[str, int]]:
    """Recorder and number that each camera was bound to which the plan puts onto the next free channel."""
    return {r[0]: (r[1], r[2]) for r in logbook.execute("SELECT name, recorder, number FROM next_channel")}


def bind_next_channel(logbook: Logbook, camera: str, recorder: str, number: int) -> None:
    logbook.execute("INSERT OR REPLACE INTO next_channel VALUES (?, ?, ?)", (camera, recorder, number))
