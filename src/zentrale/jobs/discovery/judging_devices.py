"""What is said of each device that was looked for: found or not, where and what it is, in which state, its clock.

Codes are judged only as far as was looked: a device outside of what was swept is not called missing, and a password
that was not tried is not called wrong.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence

from zentrale.findings import Finding, finding
from zentrale.jobs.discovery.matching import Matching, lacks_onvif, wants_onvif
from zentrale.jobs.discovery.missing import Evidence, Why, default_address_of, in_default_range, why_missing
from zentrale.jobs.finders.finder import Looked
from zentrale.jobs.known.device_states import State
from zentrale.jobs.known.entry_judged import ENTERED, claims_to_be_fresh, judge_clock, judge_entry, judged
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import Planned, planned_devices, ref_of, whole_devices
from zentrale.logbook.evidence import Judged
from zentrale.site.model import Camera, Plan, Recorder
from zentrale.subjects import Kind, Ref

_NO_EVIDENCE = Evidence()
_TROUBLE_CODES = frozenset({"DIS-6", "DIS-7", "DIS-9", "DIS-10", "ERR-1"})


def judge_devices(
    matching: Matching[FoundDevice],
    plan: Plan,
    looked: Looked,
    in_vault: Collection[str],
    before: Mapping[str, FoundDevice],
    evidence: Evidence = _NO_EVIDENCE,
) -> list[Judged]:
    """One or more judgements for each planned device, and for each that nobody planned.

    before:   the planned devices as earlier runs saw them last, by name
    evidence: what was seen beside devices
    """
    return [j for j in _all(matching, plan, looked, in_vault, before, evidence) if j.codes]


def _all(
    matching: Matching[FoundDevice],
    plan: Plan,
    looked: Looked,
    in_vault: Collection[str],
    before: Mapping[str, FoundDevice],
    evidence: Evidence,
) -> Iterator[Judged]:
    planned, whole = planned_devices(plan), whole_devices(plan)
    for name in matching.missing:
        why = (
            why_missing(plan, planned[name], evidence, matching.by_name, matching.extra) if evidence.adapters else None
        )
        yield _missing(plan, planned[name], looked, before.get(name), why)
    renamed = {new: old for old, new in matching.renamed}
    doubles: dict[str, list[FoundDevice]] = {}
    for name, device in matching.doubles:
        doubles.setdefault(name, []).append(device)
    for name, device in matching.by_name.items():
        row = planned[name]
        ref = ref_of(row)
        if name not in whole:  # a further lens: what is wrong with the device is told once
            yield judged(ref, {"DIS-1", "DIS-11"})
            continue
        found = list(_place_findings(plan, row, device, renamed.get(name, ""), doubles.get(name, ())))
        yield judged(
            ref, {"DIS-1", "DIS-3", "DIS-5", "DIS-8", "DIS-11", "DIS-12", *(["DIS-4"] if device.model else [])}, found
        )
        yield judged(ref, _TROUBLE_CODES, [*_service_findings(plan, row, device), *_trouble(ref, device)])
        yield judge_entry(ref, device.state, device.note, device.credentials_label, own=name in in_vault)
        yield _judge_place(ref, device, known=name in in_vault)
        if device.clock_offset_s is not None and device.state != State.FRESH.value:
            yield judge_clock(ref, device.clock_offset_s, plan.policy)
    for device in matching.extra:
        ref = Ref(Kind.DEVICE, device.address)
        who = " ".join(p for p in (device.maker, device.model, *sorted(device.identity.macs)) if p)
        default = default_address_of(plan, device)
        if not default and in_default_range(plan, device):
            default = "in a maker's default range"
        elif default:
            default = "on its maker's default address"
        said = (device.announced and f"calls itself {device.announced}", default)
        who = ", ".join(p for p in (who, *said, device.note if device.state == State.WEB_ONLY.value else "") if p)
        who = who or device.state
        other = device.state == State.WEB_ONLY.value
        expected, source = (
            ("nothing else, or equipment you know", "") if other else ("a row in the plan", "cameras.csv")
        )
        item = finding("DIS-13" if other else "DIS-2", ref, who, expected, source or "good practice")
        found = [item, *_shared(ref, device), *_trouble(ref, device)]
        yield judged(ref, {"DIS-2", "DIS-12", "DIS-13"} | _TROUBLE_CODES, found)
        if device.state in (State.NOT_ASKED.value, State.LOCKED.value, State.UNSAFE.value):
            yield judge_entry(ref, device.state, device.note, "")


def _judge_place(ref: Ref, device: FoundDevice, *, known: bool) -> Judged:
    """Whether it is the device that the vault's password is of. `known`: the vault has one that was seen to open."""
    found = []
    if device.other:
        exchanged = f"`zentrale replace {ref.name} --with {device.address}`"
        advice = f"if it took the other's place: {exchanged}; if it is the same: --same-device {ref.name}"
        found = [finding("SEC-11", ref, device.other, "the same device as before", "vault", advice)]
    elif device.state == State.FRESH.value and known:
        found = [claims_to_be_fresh(ref)]
    return judged(ref, {"SEC-11", "SEC-12"} if device.state in ENTERED else (), found)


def source_of(planned: Planned) -> str:
    return planned.where if isinstance(planned, Camera) else f"site.toml recorder {planned.name}"


def _missing(plan: Plan, row: Planned, looked: Looked, last: FoundDevice | None, why: Why | None) -> Judged:
    """Not found where it was looked for; else nothing is said, unless nobody ever saw it."""
    ref, address = ref_of(row), row.host
    where = [a for a in dict.fromkeys((address, *(last.addresses if last else ()))) if a]
    by_probe = last is not None and last.method.startswith("probe")
    zone = next(z.network for z in plan.zones if z.name == row.zone)
    swept_all = not where and any(zone.subnet_of(n) for n in looked.networks)
    if looked.covers(where, by_probe=by_probe) or swept_all:
        limit = f"an answer, planned at {address or 'no planned address'}"
        seen, advice = (why.seen, why.do) if why else (f"no answer ({looked.ways})", "")
        return judged(ref, {"DIS-11"}, [finding("DIS-1", ref, seen, limit, source_of(row), advice)])
    if last is not None:
        return judged(ref, ())
    outside = f"{address or 'no address planned'}: outside of what was asked ({looked.ways})"
    known = why if why is not None and why.explains_distance else None
    measured, advice = (known.seen, known.do) if known else (outside, "")
    return judged(
        ref, (), [finding("DIS-11", ref, measured, "every planned device looked for", source_of(row), advice)]
    )


def _place_findings(
    plan: Plan, row: Planned, device: FoundDevice, former_name: str, doubles: Sequence[FoundDevice]
) -> Iterator[Finding]:
    ref, source = ref_of(row), source_of(row)
    if former_name:
        yield finding("DIS-8", ref, f"it was called {former_name}", "the same device", "logbook")
    if row.host and row.host not in device.addresses:
        yield finding("DIS-3", ref, device.address, row.host, source)
    kind = plan.kind(row)
    if device.maker and device.model and (device.maker, device.model) != (kind.maker, kind.model):
        text = f"{device.maker} {device.model}".strip()
        yield finding("DIS-4", ref, text, f"{kind.maker} {kind.model}", f"types.toml {kind.name}")
    yield from _shared(ref, device)
    for other in doubles:
        text = ", ".join(sorted(other.identity.macs)) or "no MAC address told"
        yield finding("DIS-5", ref, f"{other.address} claims it too ({text})", "one device", source)


def _shared(ref: Ref, device: FoundDevice) -> Iterator[Finding]:
    if len(device.link_macs) > 1:
        measured = f"{device.address} is answered for by {', '.join(sorted(device.link_macs))}"
        yield finding("DIS-12", ref, measured, "one device for an address", "RFC 826")


def _service_findings(plan: Plan, row: Planned, device: FoundDevice) -> Iterator[Finding]:
    ref, kind = ref_of(row), plan.kind(row)
    silent = isinstance(row, Recorder) and not wants_onvif(plan, row)  # there is nothing to be asked
    if device.state in (State.NO_ANSWER.value, State.WEB_ONLY.value) and not device.report and not silent:
        measured = device.note or "open ports, but no ONVIF"
        yield finding("DIS-6", ref, measured, "ONVIF or RTSP answers", source_of(row))
    if lacks_onvif(plan, row, device):
        measured = device.note or "RTSP answers, ONVIF does not"
        yield finding("DIS-7", ref, measured, "ONVIF", f"types.toml {kind.name}")


def _trouble(ref: Ref, device: FoundDevice) -> Iterator[Finding]:
    """What is told of any device, planned or not."""
    if device.state == State.FAILING.value:
        yield finding("DIS-10", ref, device.note, "answers in time, without errors", "ONVIF Core")
    if device.named_hosts:
        text = ", ".join(device.named_hosts)
        yield finding("DIS-9", ref, text, f"its own address, {device.address}", "its answers")
    if device.report:
        yield finding("ERR-1", ref, device.note, "an answer that is understood, or refused", "this program")
