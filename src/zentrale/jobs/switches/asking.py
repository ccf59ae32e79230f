"""Getting into a switch by SNMP, and reading its tables: what it does not tell ends that table of that switch, nothing else."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Collection, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass
from typing import Any

from zentrale.errors import DeviceError, InputError, NoEndError, NotToldError, RefusedError, SilentError
from zentrale.field import scheduler
from zentrale.field.scheduler import Failure
from zentrale.field.snmp import Snmp
from zentrale.logbook.vault import Vault
from zentrale.protocols.mib import tables
from zentrale.protocols.mib.numbering import Shape
from zentrale.protocols.mib.switch import SeenSwitch, Told, understand
from zentrale.protocols.mib.tables import Rows, Table
from zentrale.protocols.snmp_key import SnmpKey
from zentrale.site.model import Plan, Switch

AT_ONCE = 16
BUDGET_S = 180.0
# Of a key that never opened it: a community that is not the right one gets no answer.
_ONCE: dict[str, Any] = {"timeout_s": 2.5, "retries": 0}
_MOST_ENDLESS = 3  # tables that go on and on; then nothing more is asked of it
_APART_S = 2.0  # between two readings of a counter, at least
DEFAULT_COMMUNITY = "public"
PLACES = (
    tables.INTERFACES, tables.NAMES, tables.BRIDGE_PORTS, tables.VLANS, tables.PORT_VLANS, tables.LLDP_CHASSIS,
    tables.LLDP_PORTS, tables.LLDP_NEIGHBOURS, tables.PARTS, tables.ALIASES, tables.VLAN_FORWARDING,
)  # fmt: skip
PORT_POWER = (tables.POE_PORTS, *PLACES)
Progress = Callable[[int, str], None]


@dataclass(frozen=True)
class Asked:
    """What came of one switch. `seen` None: nothing, and `problem` says why; `refused`: it answers, and takes none of the keys.
    `key`: what opened it; `guessed`: the default community opens it too, None: not tried.
    """

    switch: Switch
    seen: SeenSwitch | None = None
    problem: str = ""
    refused: bool = False
    key: SnmpKey | None = None
    guessed: bool | None = None
    report: str = ""

    @property
    def name(self) -> str:
        return self.switch.name


def askable(plan: Plan) -> list[Switch]:
    """Those of which the plan says how they are asked. Raises InputError where it says it of none."""
    found = [s for s in plan.switches if s.management is not None and s.management.snmp is not None]
    if not found:
        raise InputError(
            "site.toml [[switches]]: no switch says how it is asked for its tables",
            'expected management = { zone = "...", address = "...", snmp = "v3" } (or "v2c"); `zentrale help plan-files`',
        )
    return found


def shape_of(plan: Plan, switch: Switch) -> Shape:
    kind = plan.switch_type(switch)
    tree = switch.loop_protection in ("rstp", "mstp")
    return Shape(kind.ports, kind.units, kind.first_index, kind.first_poe_index, kind.poe_ports > 0, tree)


def keys_for(vault: Vault | None, switch: Switch, *, writes: bool) -> list[SnmpKey]:
    """What may open it, the one that did first. To read, one that may switch ports serves as well."""
    if vault is None or switch.management is None:
        return []
    contents, version = vault.contents, switch.management.snmp
    kept = contents.opens.get((switch.name, writes))
    some = [e for e in contents.snmp if e.key.version == version and (e.writes or not writes)]
    ordered = sorted(some, key=lambda e: e.writes != writes)
    keys = [kept] if kept is not None and kept.version == version else []
    return list(dict.fromkeys([*keys, *(e.key for e in ordered)]))


@asynccontextmanager
async def opened(plan: Plan, switch: Switch, vault: Vault | None, *, writes: bool = False) -> AsyncIterator[Snmp]:
    """Raises SilentError where it does not answer, RefusedError where none of the keys opens it. Each is tried once; the one that
    opened it is kept, and tried first from then on.
    """
    where = switch.management
    assert where is not None
    keys, host, rate = keys_for(vault, switch, writes=writes), str(where.address), plan.policy.snmp_rate
    if not keys:
        what = "--snmp-community" if where.snmp == "v2c" else "--snmp"
        raise RefusedError(
            f"the vault has nothing to open it with: `zentrale vault add NAME {what}{' --writes' * writes}`"
        )
    said: list[str] = []
    for key in keys:
        tries = {} if vault is not None and vault.contents.opens.get((switch.name, writes)) == key else _ONCE
        async with Snmp(host, where.snmp_port, key, rate, **tries) as client:
            if key.version == "v3" and not said and not await client.is_there():
                raise SilentError(f"no answer by SNMP at {host} port {where.snmp_port}")
            try:
                told = await client.get([tables.SYS_UP_TIME])
            except SilentError:
                clear = key.version == "v2c"
                said.append(f"{key.name}: {'no answer' if clear else 'silent: the privacy password is another'}")
                continue
            except RefusedError as error:
                said.append(f"{key.name}: {error}")
                continue
            if told[0] is None:
                said.append(f"{key.name}: it may see nothing there")
                continue
            if vault is not None:
                await asyncio.to_thread(vault.opens_switch, switch.name, key, writes=writes)
            client.be_patient()
            yield client
            return
    if where.snmp == "v2c":
        raise SilentError(
            f"no answer by SNMP at {host} port {where.snmp_port}: it is off, does not listen, or none of "
            f"{len(keys)} communities of the vault is its"
        )
    raise RefusedError("; ".join(said))


async def read(
    client: Snmp, wanted: Sequence[Table] = tables.ALL, *, rates: bool = True, spoken: asyncio.Task[None] | None = None
) -> Told:
    """The tables; with `rates` the counters twice. `spoken` ends before it is asked who is where. Raises SilentError where it
    stops to answer.
    """
    loop = asyncio.get_running_loop()
    description, up_time, name, mac = await client.get(
        [tables.SYS_DESCR, tables.SYS_UP_TIME, tables.SYS_NAME, tables.BRIDGE_ADDRESS]
    )
    rows: dict[str, Rows] = {}
    missing: dict[str, str] = {}
    begun_s, endless = 0.0, 0
    for table in wanted:
        if table is tables.INTERFACES:
            up_time, begun_s = (await client.get([tables.SYS_UP_TIME]))[0], loop.time()
        if table is tables.VLAN_FORWARDING and spoken is not None:
            await asyncio.shield(spoken)
        for one in (table, *([tables.ELSE[table.name]] if table.name in tables.ELSE else [])):
            try:
                rows[one.name] = await client.table(one)
                missing.pop(table.what, None)
                break
            except SilentError as error:
                # A table that is too much for it is one thing, a switch that went away another.
                if not await client.still_there():
                    raise SilentError(f"it stopped to answer while its tables were read ({error})") from None
                missing[table.what] = f"no answer to {one.name}"
            except DeviceError as error:
                missing[table.what] = f"{one.name}: {error}"
                endless += isinstance(error, NoEndError)
        if endless >= _MOST_ENDLESS:
            raise NotToldError(f"{endless} of its tables have no end, such as {'; '.join(missing.values())}"[:300])
    second, apart_s = dict(rows.get(tables.INTERFACES.name, {})), 0.0
    if rates and second:
        await asyncio.sleep(max(0.0, begun_s + _APART_S - loop.time()))
        second, apart_s, why = await _once_more(client, up_time)
        if why:
            missing[tables.ERRORS.what] = why
    return Told(
        rows,
        missing,
        second,
        apart_s,
        _words(description),
        _words(name),
        tables.mac(mac) if isinstance(mac, bytes) else "",
    )


async def _once_more(client: Snmp, before: object) -> tuple[Rows, float, str]:
    """The counters of errors, how much later by the switch's own clock [s], and why not."""
    try:
        (now,) = await client.get([tables.SYS_UP_TIME])
        second = await client.table(tables.ERRORS)
    except DeviceError as error:
        return {}, 0.0, f"the second reading: {error}"
    if not isinstance(now, int) or not isinstance(before, int) or now <= before:
        return {}, 0.0, "it was started again in between"
    return second, (now - before) / 100, ""  # hundredths of a second, RFC 3418


def _words(value: object) -> str:
    if not isinstance(value, bytes):
        return ""
    text = value.decode("utf-8", "replace")
    return " ".join("".join(c if c.isprintable() or c.isspace() else "?" for c in text).split())[:200]


async def ask_all(
    plan: Plan, switches: Sequence[Switch], vault: Vault | None, progress: Progress, *,
    wanted: Sequence[Table] = tables.ALL, rates: bool = True, guess: bool = False, budget_s: float = BUDGET_S,
    spoken: asyncio.Task[None] | None = None,
) -> list[Asked]:  # fmt: skip
    """All of them side by side, in their order. `guess`: whether the default community opens each is tried, once; `spoken`: see
    `read`.
    """
    done = 0

    def finished(switch: Switch) -> None:
        nonlocal done
        done += 1
        progress(done, f"read {switch.name}")

    async def one(switch: Switch) -> Asked:
        guessed = await _guessed(switch, plan.policy.snmp_rate) if guess else None
        try:
            async with opened(plan, switch, vault) as client:
                told = await read(client, wanted, rates=rates, spoken=spoken)
                return Asked(switch, understand(told, shape_of(plan, switch)), key=client.key, guessed=guessed)
        except RefusedError as error:
            return Asked(switch, problem=str(error), refused=True, guessed=guessed)
        except (SilentError, NotToldError) as error:
            return Asked(switch, problem=str(error), guessed=guessed)

    results = await scheduler.run(switches, one, at_once=AT_ONCE, budget_s=budget_s, done=finished)
    return [Asked(r.item, problem=r.message, report=r.report) if isinstance(r, Failure) else r for r in results]


async def _guessed(switch: Switch, rate: float) -> bool:
    """One request, as anybody on the network may send it."""
    where = switch.management
    assert where is not None
    async with Snmp(
        str(where.address),
        where.snmp_port,
        SnmpKey("v2c", "default", DEFAULT_COMMUNITY),
        rate,
        timeout_s=1.0,
        retries=0,
    ) as stranger:
        try:
            return (await stranger.get([tables.SYS_UP_TIME]))[0] is not None
        except DeviceError:
            return False


def named(plan: Plan, names: Collection[str]) -> list[Switch]:
    """The switches that can be asked, of these names or all. Raises InputError."""
    from zentrale.words import meant

    some, known = askable(plan), [s.name for s in plan.switches]
    for name in names:
        if name not in known:
            raise InputError(
                f"{name}: no switch of the plan{meant(name, known)}", f"expected one of: {', '.join(known)}"
            )
        if name not in [s.name for s in some]:
            raise InputError(
                f"{name}: the plan does not say how it is asked", 'expected management with snmp = "v3" in site.toml'
            )
    return [s for s in some if not names or s.name in names]
