"""Finding devices: probe, sweep, ask each who it is, and say which planned device it is."""

from __future__ import annotations

import asyncio
import ipaddress
import logging
import traceback
from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass, replace
from functools import reduce
from itertools import chain

from zentrale import quantities
from zentrale.errors import InputError, MachineError, Whose, ZentraleError
from zentrale.field import scheduler
from zentrale.field.adapters import Adapter, Choice, choose, list_adapters
from zentrale.field.neighbours import macs_by_address
from zentrale.field.probe import DEFAULT_WAIT_S, probe_directly
from zentrale.field.scheduler import Failure
from zentrale.field.sweep import MAX_HOSTS, hosts, networks_of
from zentrale.findings import Finding
from zentrale.jobs.discovery import at_switches
from zentrale.jobs.discovery.identifying import Expected, identify
from zentrale.jobs.discovery.judging_devices import judge_devices
from zentrale.jobs.discovery.matching import Matching, matched
from zentrale.jobs.discovery.missing import Evidence
from zentrale.jobs.discovery.through_recorder import KIND, Behind, addresses_told, judged_behind, look_behind
from zentrale.jobs.finders.finder import Looked, Search, Sighting
from zentrale.jobs.finders.finder_registry import FINDERS
from zentrale.jobs.finders.merging import merge, sighting
from zentrale.jobs.known.device_states import State
from zentrale.jobs.known.found_devices import FoundDevice, one_row_each
from zentrale.jobs.known.planned import planned_devices, ref_of
from zentrale.jobs.passwords.keyring import Keyring
from zentrale.jobs.switches.here import Here
from zentrale.logbook.evidence import Judged, Notes, note, observations, standings
from zentrale.logbook.store import BEGUN, INTERRUPTED, Logbook
from zentrale.site.model import SWEEP_PORTS, Plan
from zentrale.subjects import Kind, Ref

log = logging.getLogger(__name__)
COMMAND = "discover"
SEEN_KIND = "device"
AT_ONCE = 16  # devices asked at the same time: a small switch and a laptop carry this easily
_MOST_DIRECTED = 1024
_FEW_HOSTS = 64  # room for makers' default addresses
_FEW = 2  # one alone may be one that does not answer probes
BUDGET_S = 90.0  # for one device: six requests, each of which may take 12 s

Progress = Callable[[int, str], None]


@dataclass(frozen=True)
class Discovery:
    choice: Choice
    swept: tuple[str, ...]
    matching: Matching[FoundDevice]
    findings: tuple[Finding, ...]
    remarks: tuple[str, ...] = ()
    behind: tuple[Behind, ...] = ()
    here: tuple[Here, ...] = ()


@dataclass(frozen=True)
class Request:
    """What is asked for: `ranges` empty sweeps the planned zones (or the adapter's network where it is small); `only` these
    planned devices, where they should be and where they were last.
    """

    adapters: tuple[str, ...] = ()
    ranges: tuple[str, ...] = ()
    wait_s: float = DEFAULT_WAIT_S
    sweep: bool = True
    probe: bool = True
    only: tuple[str, ...] = ()


def ranges_to_sweep(
    plan: Plan | None, adapters: Sequence[Adapter], given: Sequence[str]
) -> list[ipaddress.IPv4Network]:
    """The networks to sweep. Raises InputError for a range that is none or is too large."""
    if given:
        return _networks(given)
    if plan is not None:
        used = {c.zone for c in plan.networked} | {r.zone for r in plan.recorders} or {z.name for z in plan.zones}
        zones = list(dict.fromkeys(z.network for z in plan.zones if z.name in used))
        near = [n for n in zones if any(n.subnet_of(a.network) for a in adapters)]
        if near:
            more = [n for _, n in _default_addresses(plan) if any(n.subnet_of(a.network) for a in adapters)]
            return [*_not_too_many(near), *more]
    return [a.network for a in adapters if a.network.prefixlen >= 20]


def _not_too_many(networks: Iterable[ipaddress.IPv4Network]) -> list[ipaddress.IPv4Network]:
    """Those that one sweep takes together, the smallest first; in the order they have."""
    room, kept = MAX_HOSTS - _FEW_HOSTS, set()
    asked = list(networks)
    for network in sorted(asked, key=lambda n: n.num_addresses):
        if network.num_addresses <= room:
            room -= network.num_addresses
            kept.add(network)
    return [network for network in asked if network in kept]


def _default_addresses(plan: Plan) -> list[tuple[str, ipaddress.IPv4Network]]:
    """Where makers' devices wait fresh from the box, outside of the plan's zones."""
    wanted = {t.default_address: t.maker for t in plan.camera_types if t.default_address is not None}
    return [
        (f"the default address of {maker}", ipaddress.IPv4Network(address))
        for address, maker in wanted.items()
        if not any(address in z.network for z in plan.zones)
    ]


def _networks(given: Sequence[str]) -> list[ipaddress.IPv4Network]:
    """Ranges as typed. Raises InputError."""
    try:
        networks = [network for text in given for network in networks_of(text)]
        hosts(networks)
    except ValueError as error:
        expected = "expected ranges such as 192.168.1.0/24 or 192.168.1.20-90, at most 4,096 addresses"
        raise InputError(f"--range: {error}", expected) from None
    return networks


async def discover(plan: Plan | None, keyring: Keyring, request: Request, progress: Progress) -> Discovery:
    """Find devices and compare them with the plan. Without a plan everything found is simply listed."""
    wanted = [("zone " + z.name, z.network) for z in plan.zones] if plan else []
    also = _default_addresses(plan) if plan and not request.ranges else []
    if request.ranges:
        wanted = [("--range", network) for network in _networks(request.ranges)]
    choice = choose(request.adapters, wanted, list_adapters(), also)
    networks = ranges_to_sweep(plan, choice.adapters, request.ranges) if request.sweep else []
    whole, probe = plan, request.probe
    named = request.only
    if plan is not None and request.only:
        at = {c.name: c.behind for c in plan.cameras if c.behind}  # such a camera is looked for at its recorder
        request = replace(request, only=tuple(dict.fromkeys(at.get(n, n) for n in request.only)))
        networks, known = _places(plan, keyring, request.only)
        probe, plan = request.probe and not known, _part(plan, request.only)
    ports = plan.policy.sweep_ports if plan else SWEEP_PORTS
    search = Search(choice, tuple(networks), ports, probe, request.wait_s, plan)
    looked = reduce(Looked.joined, (finder.looks(search) for finder in FINDERS))
    got: list[FoundDevice] = []
    with keyring.logbook.running(COMMAND, str(choice), looked.document()) as run:
        try:
            progress(0, " and ".join(f.name for f in FINDERS if f.looks(search) != Looked()))
            seen, failed_ways = await _look(search)
            evidence = _evidence(choice, chain.from_iterable(seen))
            switches = asyncio.create_task(at_switches.look(whole, keyring, [a.name for a in choice.adapters]))
            nobody = evidence.by_arp - set(evidence.macs)  # nobody is there to be asked at a planned address
            sightings = merge(s for s in chain.from_iterable(seen) if not (s.url and s.host in nobody))
            devices = await _identify_all(sightings, plan, keyring, progress, got)
            told = await switches
            if told is not None:
                at_switches.keep(keyring, run, told)
        except BaseException:
            # What was seen up to here is kept. Who is missing cannot be said: not all were looked for.
            _keep(keyring, run, whole, matched(whole, keyring.logbook, one_row_each(got)), [])
            raise
        matching = matched(whole, keyring.logbook, one_row_each(devices))
        if request.only:
            matching = replace(matching, missing=tuple(n for n in matching.missing if n in request.only))
        if plan is not None and matching.missing:
            evidence = replace(evidence, behind=await addresses_told(plan, keyring, matching, choice.adapters))
            evidence = replace(evidence, switches=told.whys(matching.missing) if told is not None else {})
        behind = await look_behind(whole, matching.by_name, keyring, named) if whole else []
        judged = _judged(whole, keyring, matching, looked, evidence) if whole else []
        judged += judged_behind(whole, behind) if whole else []
        findings = tuple(f for j in judged for f in j.findings)
        _keep(keyring, run, whole, matching, judged, behind)
    swept, swept_all = tuple(str(n) for n in networks), request.sweep and not request.ranges and not request.only
    remarks = [*choice.remarks, *failed_ways, *_unheard(search, matching.devices)]
    large = (
        [z.name for z in whole.zones if z.network.num_addresses > MAX_HOSTS - _FEW_HOSTS] if whole and swept_all else []
    )
    if large:
        remarks.append(
            f"too large to sweep: zone {quantities.listed(large)}; its planned addresses were asked, others are seen by probe "
            "alone, or with --range FIRST-LAST"
        )
    if swept and matching.missing and set(ports) != set(SWEEP_PORTS):
        remarks.append(
            f"only ports {', '.join(map(str, ports))} were tried, as site.toml [policy] sweep_ports has them"
        )
    here = told.here if told is not None else ()
    return Discovery(choice, swept, matching, findings, tuple(remarks), tuple(behind), here)


def _places(plan: Plan, keyring: Keyring, names: Sequence[str]) -> tuple[list[ipaddress.IPv4Network], bool]:
    """Where these devices should be, were last seen, or wait fresh from the box; the whole zone where nobody knows that of one,
    and whether there is none such.
    """
    planned = planned_devices(plan)
    last = last_devices(plan, keyring.logbook) if keyring.logbook.last_run(COMMAND) else {}
    found: dict[ipaddress.IPv4Network, None] = {}
    known = True
    for name in names:
        row = planned[name]
        hosts = [h for h in (row.host, *(last[name].addresses if name in last else ())) if h and ":" not in h]
        if not hosts:
            known = False
            found |= dict.fromkeys(z.network for z in plan.zones if z.name == row.zone)
        default = getattr(plan.kind(row), "default_address", None)
        found |= dict.fromkeys(map(ipaddress.IPv4Network, [*hosts, *([default] if default is not None else [])]))
    return list(found), known


def _part(plan: Plan, names: Collection[str]) -> Plan:
    """The plan with these devices alone."""
    own = {name: getattr(plan, name) for name in type(plan).model_fields}
    cameras = tuple(c for c in plan.cameras if plan.device_of(c).name in names)
    return Plan.model_construct(
        **own | {"cameras": cameras, "recorders": tuple(r for r in plan.recorders if r.name in names)}
    )


async def _look(search: Search) -> tuple[list[list[Sighting]], list[str]]:
    """What each way saw. A way on which this program failed is told; the others go on."""
    results = await asyncio.gather(*(finder.find(search) for finder in FINDERS), return_exceptions=True)
    seen, failed_ways = [], []
    for finder, result in zip(FINDERS, results, strict=True):
        if not isinstance(result, BaseException):
            seen.append(result)
        elif isinstance(result, ZentraleError) or not isinstance(result, Exception):
            raise result
        else:
            log.error("%s: defect: %s", finder.name, "".join(traceback.format_exception(result)))
            failed_ways.append(f"{finder.name}: this program failed on it ({type(result).__name__}); -v tells more")
    if search.probe:
        seen.append(await _asked_directly(search, list(chain.from_iterable(seen))))
    return seen, failed_ways


async def _asked_directly(search: Search, seen: Sequence[Sighting]) -> list[Sighting]:
    """Planned devices, and who was seen in another way alone, are sent a probe of their own: it passes routers, some answer no
    other, and it tells the port of a service that is on none of those swept.
    """
    answered = {s.host for s in seen if s.endpoint}
    planned = [row.host for row in planned_devices(search.plan).values() if row.host] if search.plan else []
    nobody = {s.host for s in seen if s.by_arp and not s.macs}
    wanted = dict.fromkeys(h for h in (*(s.host for s in seen), *planned) if h not in answered | nobody)
    heard = await probe_directly(list(wanted)[:_MOST_DIRECTED], min(1.0, search.wait_s)) if wanted else []
    return [replace(sighting(match, host), method="directed probe") for match, host in heard]


def _unheard(search: Search, devices: Sequence[FoundDevice]) -> list[str]:
    """Where devices on our own links answer directly, and none of them the probe, multicast does not get through."""
    here = [d for d in devices if d.speaks_onvif and any(a.holds(d.address) for a in search.choice.adapters)]
    if not search.probe or len(here) < _FEW or any("probe" in d.method.split(" + ") for d in here):
        return []
    return [
        f"{len(here)} devices answer directly, and none the multicast probe: multicast does not get through (this laptop's "
        "firewall, snooping without a querier, or another VLAN); what only answers probes is not seen"
    ]


def _evidence(choice: Choice, sightings: Iterable[Sighting]) -> Evidence:
    """What was seen beside devices."""
    seen = list(sightings)
    macs = {s.host: s.macs for s in seen if s.macs}
    # All of loopback refuses: there it tells nothing.
    refuse = [s.host for s in seen if s.refuses and not ipaddress.ip_address(s.host).is_loopback]
    return Evidence(choice.adapters, frozenset(s.host for s in seen if s.by_arp), macs, frozenset(refuse))


def _judged(
    plan: Plan, keyring: Keyring, matching: Matching[FoundDevice], looked: Looked, evidence: Evidence
) -> list[Judged]:
    """What is said of each device; and what was said of devices that nobody planned, and is not so any more."""
    before = last_devices(plan, keyring.logbook) if keyring.logbook.last_run(COMMAND) else {}
    contents = keyring.contents
    proved = [n for n, e in contents.devices.items() if contents.sent_s(n, e.credentials.user) is None]
    judged = judge_devices(matching, plan, looked, proved, before, evidence)
    now = {j.ref for j in judged}
    for standing in standings(keyring.logbook):
        ref = standing.finding.ref
        gone = (
            ref is not None and ref.kind is Kind.DEVICE and ref not in now and looked.covers([ref.name], by_probe=True)
        )
        if ref is not None and gone and standing.settled_by is None:
            judged.append(Judged(ref, frozenset({standing.finding.code})))
    return judged


async def _identify_all(
    sightings: Sequence[FoundDevice], plan: Plan | None, keyring: Keyring, progress: Progress, got: list[FoundDevice]
) -> list[FoundDevice]:
    """First those whose names are known; then the rest, which may be devices that moved and were not seen so far.

    got: takes each as it is identified
    """
    expected = Expected.of(plan, keyring.logbook, macs_by_address())
    asked = 0

    def done(device: FoundDevice) -> None:
        nonlocal asked
        asked += 1
        progress(asked, f"asked {device.address}")

    async def identified(batch: Sequence[FoundDevice], orphans: Sequence[str]) -> list[FoundDevice]:
        async def one(device: FoundDevice) -> FoundDevice:
            identified_as = await identify(device, expected, keyring, orphans)
            got.append(identified_as)
            return identified_as

        results = await scheduler.run(
            batch, one, at_once=AT_ONCE, budget_s=keyring.budget(BUDGET_S), done=done,
        )  # fmt: skip
        for result in results:
            if isinstance(result, Failure) and isinstance(result.error, MachineError):
                raise result.error  # what was not asked is not known, and no device is blamed for it
        return [failed(r) if isinstance(r, Failure) else r for r in results]

    progress(0, f"asking {len(sightings)} devices")
    named = [d for d in sightings if expected.names(d)]
    first = await identified(named, ())
    seen = {name for device in first if device.speaks_onvif for name in expected.names(device)}
    orphans = [name for name in keyring.contents.devices if name not in seen]
    second = await identified([d for d in sightings if d not in named], orphans)
    return [d for d in (*first, *second) if d.method != "planned" or d.speaks_onvif]


def failed(failure: Failure[FoundDevice]) -> FoundDevice:
    """A device on which the work ended: late, or our own defect."""
    state = State.NO_ANSWER if failure.whose is Whose.DEFECT else State.FAILING
    return replace(failure.item, state=state.value, note=failure.message[:300], report=failure.report)


def _keep(
    keyring: Keyring, run: int, plan: Plan | None, matching: Matching[FoundDevice], judged: Sequence[Judged],
    behind: Sequence[Behind] = (),
) -> None:  # fmt: skip
    """Into the logbook: what was seen, and which names changed. The vault follows the names."""
    logbook = keyring.logbook
    for old, new in matching.renamed:
        if keyring.vault is not None:
            keyring.vault.rename_device(old, new)
        logbook.rename(old, new)
    planned = planned_devices(plan) if plan else {}
    notes = Notes(judged=list(judged))
    for device in matching.devices:
        name = matching.name_of(device)
        ref = ref_of(planned[name]) if name else Ref(Kind.DEVICE, device.address)
        notes.observe(SEEN_KIND, ref, device.method, replace(device, report=""))
    for row in behind:
        if row.there is not None:
            notes.observe(KIND, ref_of(planned[row.name]), f"through {row.recorder}", row.document())
    note(logbook, run, notes)


def current_devices(logbook: Logbook) -> list[FoundDevice]:
    """The devices as they were last seen: what a run did not look for it does not take away. Raises InputError where
    nothing was discovered yet.
    """
    by_run: dict[int, list[FoundDevice]] = {}
    for seen in observations(logbook, SEEN_KIND):
        by_run.setdefault(seen.run, []).append(FoundDevice.from_document(seen.content))
    # A run of another command that has given a device its address has seen that one, and looked for no other.
    every = [r for r in logbook.runs() if r.id in by_run or (r.command == COMMAND and r.state != BEGUN)]
    runs = [r for r in every if r.command == COMMAND]
    if not any(r.state != INTERRUPTED or r.id in by_run for r in runs):
        raise InputError("nothing was discovered yet", "run `zentrale discover` first")
    current: list[FoundDevice] = []
    newer: list[Looked] = []
    for run in every:
        for device in by_run.get(run.id, ()):
            by_probe = device.method.startswith("probe")
            looked_again = any(looked.covers(device.addresses, by_probe=by_probe) for looked in newer)
            if not looked_again and not any(_same(device, d) for d in current):
                current.append(device)
        if run.command != COMMAND:
            continue
        if not run.scope and run.state != INTERRUPTED:
            break  # an older version's run: it looked for all
        newer.append(Looked.from_document(run.scope, interrupted=run.state == INTERRUPTED))
    return current


def _same(a: FoundDevice, b: FoundDevice) -> bool:
    """Whether an older and a newer row are one device, or one place that holds another device now."""
    return a.identity.same_device(b.identity) is True or (a.address == b.address and a.url == b.url)


def last_devices(plan: Plan, logbook: Logbook) -> dict[str, FoundDevice]:
    """The devices as last seen by their names in the plan, as plan and bindings are now."""
    return matched(plan, logbook, current_devices(logbook)).by_name
