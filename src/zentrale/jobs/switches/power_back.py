"""Power that a command took from a port and did not give back, since it was killed: found in the journal, and given back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from zentrale.errors import DeviceError
from zentrale.jobs.switches.asking import opened
from zentrale.logbook.store import BEGUN, FAILED, INTERRUPTED, Change, Logbook
from zentrale.logbook.vault import Vault
from zentrale.protocols.mib import tables
from zentrale.protocols.mib.tables import Oid
from zentrale.site.model import Plan
from zentrale.subjects import Kind, Ref

STEP = "port power"
ON, OFF = 1, 2  # pethPsePortAdminEnable, RFC 3621


@dataclass(frozen=True)
class Dark:
    """A port that is without power by our doing."""

    switch: str
    port: int
    row: Oid

    def __str__(self) -> str:
        return f"{self.switch}:{self.port}"


def still_dark(logbook: Logbook) -> list[Dark]:
    """Ports whose last entry in the journal is one that never came to its end, of a run that lives no more."""
    last: dict[tuple[str, int], Change] = {}
    for change in logbook.changes(step=STEP):
        if change.after_state is not None:
            last[change.ref.name, int(change.after_state["port"])] = change
    if not any(change.state in (BEGUN, FAILED, INTERRUPTED) for change in last.values()):
        return []
    dead = {run.id for run in logbook.runs() if run.state != BEGUN}
    found = []
    for (switch, port), change in last.items():
        state = change.after_state or {}
        ended = change.state in (FAILED, INTERRUPTED) or (change.state == BEGUN and change.run in dead)
        if ended and state.get("on") is False:
            found.append(Dark(switch, port, tuple(state["row"])))
    return found


async def give_back(plan: Plan, vault: Vault, logbook: Logbook, dark: Sequence[Dark]) -> list[tuple[Dark, str]]:
    """Each with what went wrong; empty where it has its power again. The journal says so."""
    results = []
    with logbook.running("port power given back", "this machine", {"ports": [str(d) for d in dark]}) as run:
        for port in dark:
            ref = Ref(Kind.SWITCH, port.switch, f"port {port.port}")
            switch = next((s for s in plan.switches if s.name == port.switch), None)
            if switch is None or switch.management is None or switch.management.snmp is None:
                results.append((port, "the plan does not say any more how the switch is asked"))
                continue
            change = logbook.begin_change(
                run, ref, STEP, "off", "on", (state_of(port, on=False), state_of(port, on=False))
            )
            try:
                async with opened(plan, switch, vault, writes=True) as client:
                    await client.set(tables.POE_PORTS.cell("admin", port.row), ON)
                    (told,) = await client.get([tables.POE_PORTS.cell("admin", port.row)])
                    if told != ON:
                        raise DeviceError("it says OK, and leaves it off")
            except DeviceError as error:
                logbook.end_change(change, str(error))
                results.append((port, str(error)))
            else:
                logbook.end_change(change, after_state=state_of(port, on=True))
                results.append((port, ""))
    return results


def state_of(port: Dark, *, on: bool) -> dict[str, object]:
    return {"port": port.port, "row": list(port.row), "on": on}
