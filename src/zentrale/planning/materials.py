"""The tender: what is to be bought, cable by cable, and what each cabinet takes in mains, heat and room."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from zentrale import quantities
from zentrale.findings import Finding, finding
from zentrale.planning import poe
from zentrale.planning.attached import attached
from zentrale.planning.feeders import Feeder, feeders
from zentrale.planning.power import PowerPlan, plan_power
from zentrale.planning.storage import StoragePlan, drives_to_buy, plan_storage
from zentrale.site.model import Mode, Plan

_FIBRES = ("om3", "om4", "os2")
_HOURS = 365 * 24
_PRICED = ("camera", "switch", "recorder", "drive")  # those whose price the plan files can hold


@dataclass(frozen=True)
class Material:
    """One line of the bill: so many, or so many metres with the spare; None where nobody gave a price."""

    item: str
    type: str
    count: int | None
    metres: float | None
    price: float | None

    @property
    def sum(self) -> float | None:
        amount = self.count if self.metres is None else self.metres
        return None if self.price is None or amount is None else self.price * amount


@dataclass(frozen=True)
class Cable:
    """One cable of the schedule. `metres` is its length without spare, None where the plan has none; a label for each end."""

    number: str
    start: str
    end: str
    kind: str
    category: str
    route: str
    metres: float | None
    called: str = ""  # the device's name for people, at its end

    @property
    def label_from(self) -> str:
        return f"{self.number} {self.start} > {self.called or self.end}"

    @property
    def label_to(self) -> str:
        return f"{self.number} {self.called or self.end} > {self.start}"


@dataclass(frozen=True)
class CabinetNeed:
    """`mains_w` in the worst mode; `heat_w` is what of it stays in the cabinet; `kwh_a_year` half by day and half by night."""

    cabinet: str
    mains_w: float
    heat_w: float
    rack_units: float
    kwh_a_year: float


@dataclass(frozen=True)
class Drives:
    recorder: str
    to_buy: int
    write_bps: float


@dataclass(frozen=True)
class MaterialsPlan:
    """`total_price` of what has one."""

    materials: tuple[Material, ...]
    cables: tuple[Cable, ...]
    cabinets: tuple[CabinetNeed, ...]
    drives: tuple[Drives, ...]
    findings: tuple[Finding, ...]

    @property
    def total_price(self) -> float:
        return sum(m.sum or 0.0 for m in self.materials)


@dataclass
class _Bill:
    lines: dict[tuple[str, str], list[float | None]] = field(default_factory=dict)
    metres: set[tuple[str, str]] = field(default_factory=set)

    def add(self, item: str, kind: str, amount: float, price: float | None, *, metres: bool = False) -> None:
        line = self.lines.setdefault((item, kind), [0.0, price])
        line[0] = (line[0] or 0.0) + amount
        if metres:
            self.metres.add((item, kind))

    def materials(self) -> Iterator[Material]:
        for (item, kind), (amount, price) in self.lines.items():
            long = (item, kind) in self.metres
            yield Material(item, kind, None if long else round(amount or 0), amount if long else None, price)


def plan_materials(plan: Plan, power: PowerPlan | None = None, storage: StoragePlan | None = None) -> MaterialsPlan:
    """`power`, `storage`: where they are worked out already."""
    power, storage = power or plan_power(plan), storage or plan_storage(plan)
    cables = tuple(_cables(plan))
    drives = tuple(_drives(plan, storage))
    bill = _Bill()
    _devices(plan, bill, drives)
    _lines(plan, bill, cables)
    materials = tuple(bill.materials())
    return MaterialsPlan(
        materials, cables, tuple(_cabinets(plan, power)), drives, tuple(_findings(plan, materials, cables, drives))
    )


def _devices(plan: Plan, bill: _Bill, drives: tuple[Drives, ...]) -> None:
    for camera in plan.camera_devices:
        kind = plan.camera_type(camera)
        bill.add("camera", kind.name, 1, kind.price)
        if kind.focal_mm is not None:
            bill.add("lens", f"{kind.focal_mm:g} mm, of {kind.name}", 1, None)
        if plan.supply(camera) == "injector":
            bill.add("injector", f"PoE type {poe.needed_type(kind.counted_class)}", 1, None)
    for switch in plan.switches:
        bill.add("switch", switch.type, 1, plan.switch_type(switch).price)
    for recorder, need in zip(plan.recorders, drives, strict=True):
        bill.add("recorder", recorder.type, 1, plan.recorder_type(recorder).price)
        if recorder.storage is not None:
            bill.add("drive", f"{recorder.storage.drive_tb:g} TB", need.to_buy, recorder.storage.drive_price)
    for point in plan.access_points:
        bill.add("access point", point.name, 1, None)
    for battery in plan.batteries:
        bill.add("battery", f"{battery.capacity_wh:g} Wh", 1, None)


def _lines(plan: Plan, bill: _Bill, cables: tuple[Cable, ...]) -> None:
    more = 1 + plan.policy.cable_spare_percent / 100
    cord = f"{plan.policy.cords_m / 2:g} m"
    for cable in cables:
        fibre = cable.kind in _FIBRES
        price = plan.placement.fibre_price_per_m if fibre else plan.placement.cable_price_per_m
        text = cable.kind if fibre else ", ".join(w for w in (cable.kind, f"category {cable.category or '?'}") if w)
        if cable.metres:
            bill.add("cable", text, cable.metres * more, price, metres=True)
        if not fibre and plan.policy.cords_m:
            bill.add("cord", cord, 2, None)
    for link in plan.links:
        if link.medium in _FIBRES:  # one at each end
            bill.add("module", f"{link.medium}, {quantities.bitrate(link.rate_mbps * 1e6)}", 2, None)
    bill.add("label", "cable end", 2 * len(cables), None)


def _cables(plan: Plan) -> Iterator[Cable]:
    """Cameras by their row, then recorders, viewers and things, then links."""
    ends: list[tuple[str, str, str, str, str, float | None]] = []
    for camera in plan.camera_devices:
        if not camera.wireless:
            length = camera.run_length_m or None
            kind = camera.cable_kind or "copper"
            ends.append(
                (
                    f"{camera.behind or camera.switch}:{camera.port}" if camera.port else camera.place,
                    camera.name,
                    kind,
                    plan.category(camera),
                    camera.route,
                    length,
                )
            )
    category = plan.policy.cable_category
    for recorder in plan.recorders:
        ends += [(f"{leg.switch}:{leg.port}", recorder.name, "copper", category, "", None) for leg in recorder.legs()]
    ends += [(f"{v.switch}:{v.port}", v.name, "copper", category, "", None) for v in plan.viewers]
    planned = {end[0] for end in ends} | {f"{s}:{p}" for link in plan.links for s, p in link.ends()}
    for thing in attached(plan):
        if f"{thing.switch}:{thing.port}" not in planned:
            ends.append((f"{thing.switch}:{thing.port}", thing.name, "copper", category, "", None))
    for link in plan.links:
        fibre = link.medium in _FIBRES
        ends.append((link.a, link.b, link.medium or "copper", "" if fibre else category, "", link.length_m or None))
    width = len(str(len(ends)))
    for number, end in enumerate(ends, 1):
        yield Cable(f"C{number:0{width}d}", *end, called=plan.called(end[1]))


def _cabinets(plan: Plan, power: PowerPlan) -> Iterator[CabinetNeed]:
    fed = {f.feeder.subject: f.draw_w for f in power.feeders}
    names = dict.fromkeys(switch.cabinet for switch in plan.switches)
    for name in names:
        switches = [s for s in plan.switches if s.cabinet == name]
        recorders = [r for r in plan.recorders if plan.switch(r.switch).cabinet == name]
        here = [f for f in feeders(plan) if f.cabinet == name]
        own = sum(plan.switch_type(s).self_w for s in switches) + sum(plan.recorder_type(r).power_w for r in recorders)

        def taken(mode: Mode, here: Sequence[Feeder] = here, own: float = own) -> tuple[float, float]:
            """From the mains, and what of it leaves by the cables."""
            out = [(fed[f.subject][mode], f.ports.poe_efficiency) for f in here if f.subject in fed]
            return own + sum(w / share for w, share in out), sum(w for w, _ in out)

        mains, leaves = taken(Mode.WORST)
        mean = (taken(Mode.DAY)[0] + taken(Mode.NIGHT)[0]) / 2
        units = sum(plan.switch_type(s).rack_units for s in switches) + sum(
            plan.recorder_type(r).rack_units for r in recorders
        )
        yield CabinetNeed(name, mains, mains - leaves, units, mean * _HOURS / 1000)


def _drives(plan: Plan, storage: StoragePlan) -> Iterator[Drives]:
    more = 1 + plan.policy.growth_percent.storage / 100
    for recorder, result in zip(plan.recorders, storage.recorders, strict=True):
        yield Drives(recorder.name, drives_to_buy(recorder, result.needed_bytes * more), result.write_bps)


def _findings(
    plan: Plan, materials: tuple[Material, ...], cables: tuple[Cable, ...], drives: tuple[Drives, ...]
) -> Iterator[Finding]:
    for need in drives:
        storage = plan.recorder(need.recorder).storage
        if storage is not None and need.to_buy > storage.drives:
            source = f"site.toml recorder {need.recorder}"
            yield finding(
                "MAT-3", f"recorder {need.recorder}", f"{need.to_buy} drives", f"{storage.drives} planned", source
            )
    unknown = [f"{m.item} {m.type}" for m in materials if m.price is None and m.item in _PRICED]
    if unknown:
        text = f"{quantities.listed(unknown, 8)}"
        yield finding("MAT-1", quantities.count(len(unknown), "item"), text, "a price each", "types.toml, site.toml")
    long = [c for c in cables if c.metres is None and ":" in c.end]
    if long:
        text = f"{quantities.listed([f'{c.start} - {c.end}' for c in long], 6)}"
        yield finding(
            "MAT-2", quantities.count(len(long), "link"), text, "a length each", "site.toml [[links]] length_m"
        )
