"""Channels: which recording is which, what is free, and cameras that change places, against a recorder that is not ours.

What it holds after all is read from the recorder itself.
"""

from __future__ import annotations

import asyncio
import contextlib
import random
import re
from dataclasses import dataclass
from pathlib import Path

import pytest

from conftest import CAMERAS, TYPES, make_site
from strangers import PORT, Settable, listening
from test_steps import HOST, SITE, Place, hurry
from tower import Tower
from zentrale.cli.work import plan_of
from zentrale.field.device import Device
from zentrale.findings import Severity
from zentrale.jobs.known.profile_choice import sources_in_order
from zentrale.jobs.known.step_form import Outcome, StepResult
from zentrale.jobs.recorders.book import ChannelBook
from zentrale.jobs.recorders.moves import Mover
from zentrale.jobs.recorders.next_free import write_next
from zentrale.jobs.recorders.numbering import Rule, numbered
from zentrale.jobs.recorders.onvif_lists import RecorderChannels
from zentrale.jobs.registration import by_hand
from zentrale.jobs.registration.undoing import undo
from zentrale.logbook.channel_numbers import next_channels
from zentrale.logbook.processes import this_process
from zentrale.logbook.store import Logbook
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.onvif.media import Profile
from zentrale.protocols.onvif.recording import Recording
from zentrale.protocols.soap import parse_duration_s
from zentrale.protocols.xml import Element
from zentrale.site.reading import read_plan
from zentrale.subjects import Kind, Ref

__all__ = ["hurry"]
TOWER = "127.0.77.200"
SITE_32 = (
    SITE.replace("127.0.77.0/27", "127.0.77.0/24").replace("127.0.77.21", TOWER).replace("02:5a:71:00:00:21", "")
    .replace("port = 9", "port = 60")
)  # fmt: skip
TYPES_32 = re.sub(r"channels = 4", "channels = 32", re.sub(r"(?m)^ports = \d+$", "ports = 60", TYPES))


class Killed(BaseException):
    """As a process that is killed: nothing of it goes on."""


class Rack(Place):
    """A site with a recorder of many channels, and cameras c1, c2, ... of which c1 is there."""

    def __init__(self, folder: Path, tower: Tower, channels: list[int | str]) -> None:
        super().__init__(folder, Settable(HOST))
        self.tower = tower
        self.plan_channels(channels)
        for camera in self.plan.cameras:
            self.vault.set_account(camera.name, Credentials("recorder", f"of-{camera.name}"))

    def plan_channels(self, channels: list[int | str]) -> None:
        rows = [
            f"c{n},x,larch-2,all,cameras,cabinet,{n},20,127.0.77.{10 + n},,recorder,{channel}"
            for n, channel in enumerate(channels, start=1)
        ]
        text = "\n".join([CAMERAS.splitlines()[0], *rows, ""])
        make_site(self.folder.path, SITE_32, text, TYPES_32)
        self.plan = read_plan(self.folder)

    def url(self, camera: int) -> str:
        return f"rtsp://127.0.77.{10 + camera}:8554/v"

    def settle(self, *, dies_at: int = 0, dry_run: bool = False) -> list[StepResult]:
        """The recorder's part of a registration; killed at its `dies_at`th change, before or after it was carried out."""
        sets = 0

        async def call(device: Device, prefix: str, request: Element) -> Element:
            nonlocal sets
            changing = not str(request.tag).rpartition("}")[2].startswith("Get")
            sets += changing
            if changing and dies_at and sets == (dies_at + 1) // 2 and dies_at % 2:
                raise Killed
            answer = await plain(device, prefix, request)
            if changing and dies_at and sets == dies_at // 2 and not dies_at % 2:
                raise Killed
            return answer

        async def run() -> list[StepResult]:
            recorder = self.plan.recorders[0]
            with Logbook(self.folder.logbook_file) as log, log.running("register", "here") as number:
                log.close_interrupted()
                keyring = self.keyring(log, dry_run=dry_run)
                async with Device(self.tower.where + "/onvif/device_service", keyring.rules(None)) as client:
                    client.use(Credentials("admin", "installer-1"))
                    book = ChannelBook(log, self.plan, recorder.name, writes=not dry_run)
                    return await Mover(keyring, number, recorder, RecorderChannels(client, book)).settle()

        plain = Device.call
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(Device, "call", call)
            try:
                return asyncio.run(run())
            except Killed:
                with Logbook(self.folder.logbook_file) as log:  # as a killed process leaves it
                    gone = f"{this_process().split()[0]} 999999999"
                    log.execute("UPDATE run SET state = 'begun', process = ?", (gone,))
                    log.execute("UPDATE done SET state = 'begun', error = '' WHERE state = 'failed'")
                return []

    def given(self, on: dict[int, int], token_of: dict[int, str]) -> None:
        """As runs before have left it: these cameras, by channel."""
        for channel, camera in on.items():
            token = token_of[channel]
            job = next(j for j, (rec, _, _) in self.tower.jobs.items() if rec == token)
            self.tower.receivers[self.tower.jobs[job][1]] = self.url(camera).replace("//", f"//recorder:of-c{camera}@")
            self.tower.jobs[job] = (*self.tower.jobs[job][:2], "Active")
            self.tower.names[token] = f"c{camera}"


def serving(*cameras: Settable) -> contextlib.AbstractContextManager[None]:
    return listening(*((c.serve, c.host, PORT, None) for c in cameras))


def fixed(count: int, *, names: str = "Channel {}", seed: int = 0) -> tuple[Tower, dict[int, str]]:
    """A recorder that lists in an odd order, and its token for each channel. Seed 0: 1, 10, 11, .., 2, 20, .. as text sorts."""
    numbers = (
        sorted(range(1, count + 1), key=str) if not seed else random.Random(seed).sample(range(1, count + 1), count)
    )
    tokens = {n: f"{7 * n % 101:03d}" for n in numbers}
    return Tower.shipped(TOWER, {tokens[n]: names.format(n) for n in numbers}), tokens


def items(*pairs: tuple[str, str]) -> list[Recording]:
    return [Recording(token, name) for token, name in pairs]


@pytest.mark.parametrize(("listed", "rule", "numbers"), [
    ([("a", "Channel 1"), ("b", "Channel 10"), ("c", "Channel 2")], Rule.NAMES, [1, 10, 2]),
    ([("a", "CH01"), ("b", "CH10"), ("c", "CH02")], Rule.NAMES, [1, 10, 2]),
    ([("2", "Gate"), ("1", "Channel 2"), ("3", "Channel 3")], Rule.TOKENS, [2, 1, 3]),  # not all of one form
    ([("T2", "Channel 2"), ("T1", "Channel 1"), ("T3", "c1")], Rule.TOKENS, [2, 1, 3]),  # a planned camera's name
    ([("x0", ""), ("x2", ""), ("x1", "")], Rule.TOKENS, [1, 3, 2]),  # counted from nought
    ([("r4", "Cam 1"), ("r1", "Cam 1"), ("r7", "Cam 2")], Rule.ORDER, [1, 2, 3]),  # two the same; tokens with gaps
    ([("q", "NVR2 in 3"), ("p", "NVR1 in 4")], Rule.ORDER, [1, 2]),  # differ in more than the number
    ([("7", "Channel 7")], Rule.ORDER, [1]),  # one alone shows no form
    ([], Rule.ORDER, []),
])  # fmt: skip
def test_what_tells_a_channels_number(listed: list[tuple[str, str]], rule: Rule, numbers: list[int]) -> None:
    found = numbered(items(*listed), (), {"c1"})
    assert found.rule is rule and [found.number_of(token) for token, _ in listed] == numbers
    assert bool(found.against) == (rule is Rule.NAMES)


def test_a_numbering_once_kept_stays(tmp_path: Path) -> None:
    first = numbered(items(("b", "Channel 2"), ("a", "Channel 1")), {"a"}, ())
    kept = list(first.channels.values())
    later = numbered(items(("n", ""), ("a", "gate"), ("b", "yard")), (), {"gate", "yard"}, kept)
    assert [later.number_of(t) for t in "abn"] == [1, 2, 3] and later.channels[1].had_job and not later.gone
    gone = numbered(items(("b", "yard")), (), (), kept)
    assert [k.token for k in gone.gone] == ["a"] and gone.number_of("b") == 2
    anew = numbered(items(("z", "Channel 1")), (), (), kept)
    assert anew.number_of("z") == 1, "a recorder that was reset is numbered anew"


def test_a_recorder_as_it_ships_is_given_by_its_own_names(tmp_path: Path) -> None:
    tower, tokens = fixed(12)
    place = Rack(tmp_path, tower, [9])
    with serving(place.camera, tower):
        place.discover(), place.discover(TOWER)
        dry = place.register(dry_run=True)["channel"]
        facts = {"recording_name": "Channel 9", "recording_token": tokens[9], "receiver_token": f"v{tokens[9]}"}
        assert dry.facts.items() >= {**facts, "source_id": f"src-{tokens[9]}"}.items() and not tower.changed
        assert 'its recording "Channel 9"' in dry.note and "by the recorder's own names" in dry.note
        jobs, receivers = set(tower.jobs), set(tower.receivers)
        done = place.registration()
        assert tower.on(tokens[9]).startswith("rtsp://127.0.77.11") and tower.names[tokens[9]] == "c1"
        assert (set(tower.jobs), set(tower.receivers)) == (jobs, receivers), (
            "its own idle job and empty receiver are used"
        )
        assert {f.code for f in done.findings} == {"REC-6"}, "its list is in another order than it counts"
        assert place.register()["channel"].outcome is Outcome.UNCHANGED, "its name is ours now; the number is kept"
        tower.receivers[f"v{tokens[4]}"], tower.jobs[f"j{tokens[4]}"] = (
            "rtsp://10.9.9.9/x",
            (tokens[4], f"v{tokens[4]}", "Active"),
        )
        strange = [f for f in place.registration().findings if f.code == "REC-8"]
        assert [(f.ref.part, "rtsp://10.9.9.9/x" in f.measured) for f in strange if f.ref] == [("channel 4", True)]
        del tower.names[tokens[7]]
        assert "REC-7" in {f.code for f in place.registration().findings}


@pytest.mark.parametrize("what", ["profile", "elsewhere", "records"])
def test_what_is_taken_says_whither_and_is_left(tmp_path: Path, what: str) -> None:
    tower, tokens = fixed(4)
    token = tokens[2]
    if what == "profile":
        tower.profile = frozenset({token})
    elif what == "elsewhere":
        tower.receivers[f"v{token}"] = "rtsp://10.9.9.9/x"
    else:
        tower.jobs[f"j{token}"] = (token, f"v{token}", "Active")
    place = Rack(tmp_path, tower, [2])
    with serving(place.camera, tower):
        place.discover(), place.discover(TOWER)
        told = place.register()["channel"]
    words = {"profile": "of the recorder's own", "elsewhere": "rtsp://10.9.9.9/x", "records": "it records (Active)"}
    assert told.outcome is Outcome.FAILED and words[what] in told.error and not tower.changed


@dataclass(frozen=True)
class Moved:
    before: list[int]
    after: list[int]


def permutations() -> list[tuple[int, Moved, list[int]]]:
    """How many channels, what changes, and where the run is killed. Of few channels in every step: two change places, three
    rotate, one goes where it is free; of many any way at all.
    """
    chance, every = random.Random(5), [1, 2, 3, 4, 5]
    some = [
        Moved(every, [2, 1, 3, 4, 5]),
        Moved(every, [2, 4, 3, 1, 5]),
        Moved([1, 2, 3], [5, 1, 3]),
        Moved([3, 1], [1, 2]),
    ]
    many = [Moved(chance.sample(range(1, 33), count), chance.sample(range(1, 33), count)) for count in (32, 28)]
    steps = [[0, *range(1, 14)], [0, *range(1, 14)], [0, *range(1, 14, 2)], [*range(2, 14, 2)]]
    few = [(5, moved, deaths) for moved, deaths in zip(some, steps, strict=True)]
    return few + [(32, moved, chance.sample(range(1, 190), 2)) for moved in many]


@pytest.mark.parametrize(("count", "moved", "deaths"), permutations())
def test_cameras_change_places_and_survive_a_kill_in_every_step(
    tmp_path: Path, count: int, moved: Moved, deaths: list[int]
) -> None:
    """Read back from the recorder; after a kill by the next run, in which no camera is asked for anything."""
    tower, tokens = fixed(count, seed=3)
    place = Rack(tmp_path, tower, [*moved.before])
    start = dict(tower.names), dict(tower.jobs), dict(tower.receivers)
    with serving(tower):
        for dies_at in deaths:
            tower.names, tower.jobs, tower.receivers = dict(start[0]), dict(start[1]), dict(start[2])
            place.folder.logbook_file.unlink(missing_ok=True)
            place.plan_channels([*moved.before])
            place.given({channel: n for n, channel in enumerate(moved.before, start=1)}, tokens)
            with Logbook(place.folder.logbook_file) as log:
                book = ChannelBook(log, place.plan, "recorder", writes=True)
                book.numbered(items(*((t, start[0][t]) for t in start[0])), set(tokens.values()))
            assert not place.settle(), "each is where it is planned"
            place.plan_channels([*moved.after])
            tower.changed = 0
            told = place.settle(dies_at=dies_at)
            if dies_at and not told:
                told = place.settle()
            assert all(r.outcome is Outcome.CHANGED for r in told), [r.error for r in told if r.error]
            on = {channel: tower.on(token) for channel, token in tokens.items() if tower.on(token)}
            assert on == {channel: place.url(n) for n, channel in enumerate(moved.after, start=1)}, dies_at
            for n, channel in enumerate(moved.after, start=1):
                assert (
                    f"//recorder:of-c{n}@" in tower.receivers[f"v{tokens[channel]}"]
                    and tower.names[tokens[channel]] == f"c{n}"
                )
            free = set(tokens) - set(moved.after)
            assert {tower.names[tokens[n]] for n in free} == {f"Channel {n}" for n in free}
            same = [set(tower.names) == set(start[0]), set(tower.jobs) == set(start[1]), len(tower.receivers) == count]
            assert all(same), "nothing made twice"
            assert not place.settle(), "and again changes nothing"


def test_a_camera_is_not_moved_onto_somebody_elses_channel(tmp_path: Path) -> None:
    tower, tokens = fixed(4)
    place = Rack(tmp_path, tower, [1, 2])
    with serving(tower):
        place.given({1: 1, 2: 2}, tokens)
        tower.receivers[f"v{tokens[3]}"], tower.names[tokens[3]] = "rtsp://10.9.9.9/x", "theirs"
        tower.jobs[f"j{tokens[3]}"] = (tokens[3], f"v{tokens[3]}", "Active")
        place.settle()
        place.plan_channels([2, 3])  # the one in the way cannot go
        assert not place.settle() and tower.on(tokens[1]) == place.url(1) and tower.on(tokens[3]) == "rtsp://10.9.9.9/x"
        place.plan_channels([2, 4])
        told = place.settle(dry_run=True)
        assert [(r.step, r.outcome.value) for r in told] == [
            ("channel 2", "would change"), ("channel 4", "would change"), ("channel 1", "would change")
        ]  # fmt: skip
        assert "until now stays on channel 1" in told[0].note and tower.on(tokens[1]) == place.url(1)


def test_the_next_free_channel_is_bound_once_and_written(tmp_path: Path) -> None:
    tower, tokens = fixed(5)
    tower.receivers[f"v{tokens[2]}"] = "rtsp://10.9.9.9/x"  # what the plan does not know of
    place = Rack(tmp_path, tower, ["next", 1])
    assert [c.channel for c in place.plan.cameras] == [2, 1], "by the plan alone"
    with serving(place.camera, tower):
        place.discover(), place.discover(TOWER)
        place.register(dry_run=True)
        with Logbook(place.folder.logbook_file) as log:
            assert not next_channels(log)
        assert place.register()["channel"].outcome is Outcome.CHANGED and tower.on(tokens[3]).startswith(
            "rtsp://127.0.77.11"
        )
    with Logbook(place.folder.logbook_file) as log:
        assert next_channels(log) == {"c1": ("recorder", 3)}
        assert plan_of(place.folder).camera("c1").channel == 3, "for every command from now on"
        assert write_next(place.folder, place.plan, log) == {"c1": 3}
    assert ",recorder,3\n" in place.folder.cameras_file.read_text() and not read_plan(place.folder).next_channels


RULES = 'recording = { mode = "motion", before_s = 5, after_s = 20, max_days = 30 }\n'


def ruled(folder: Path, **more: str) -> tuple[Rack, str]:
    """A rack whose one camera is kept for 30 days at most, on channel 2, and the token of that."""
    tower, tokens = fixed(4)
    tower.makes_of = more
    place = Rack(folder, tower, [2])
    site = SITE_32.replace('name = "all"\n', f'name = "all"\n{RULES}')
    make_site(place.folder.path, site, place.folder.cameras_file.read_text(), TYPES_32)
    place.plan = read_plan(place.folder)
    return place, tokens[2]


def test_the_longest_retention_is_written_to_the_day_and_taken_back(tmp_path: Path) -> None:
    place, token = ruled(tmp_path)
    with serving(place.camera, place.tower):
        place.discover(), place.discover(TOWER)
        assert place.register(dry_run=True)["retention"].outcome is Outcome.WOULD_CHANGE and not place.tower.kept
        done = place.registration()
        assert place.tower.kept == {token: "P30D"} and "REC-9" not in {f.code for f in done.findings}
        before = place.tower.changed
        assert place.register()["retention"].outcome is Outcome.UNCHANGED and place.tower.changed == before
        with Logbook(place.folder.logbook_file) as log:
            assert ("retention", "for ever", "at most 30 days") in [(c.step, c.before, c.after) for c in log.changes()]
            assert done.run is not None
            back = asyncio.run(undo(place.keyring(log), done.run, lambda *_: None))
    assert place.tower.kept[token] == "PT0S" and ("retention", True) in [(u.change.step, u.taken_back) for u in back]
    kinds = [u.change.ref.kind for u in back]
    assert Kind.RECORDER in kinds and Kind.CAMERA not in kinds[kinds.index(Kind.RECORDER) :], "recorders go last"


@pytest.mark.parametrize(("held", "outcome", "told"), [("P28D", "changed", ""), ("P35D", "failed", "at most 35 days")])
def test_a_retention_that_is_rounded_down_will_do_and_rounded_up_is_a_fault(
    tmp_path: Path, held: str, outcome: str, told: str
) -> None:
    place, token = ruled(tmp_path, P30D=held)
    with serving(place.camera, place.tower):
        place.discover(), place.discover(TOWER)
        done = place.registration()
        codes = {f.code for f in done.findings}
        (step,) = [s for r in done.results for s in r.steps if s.step == "retention"]
        assert (step.outcome.value, place.tower.kept[token]) == (outcome, held) and told in step.error
        assert {"REG-1", "REC-9"} <= codes if told else not {"REG-1", "REC-9"} & codes
        beneath = [f.caused_by for f in done.findings if f.code == "REC-9"]
        assert beneath == ["REG-1 camera c1, step retention"] * bool(told), "one fault, not two"
        if not told:
            assert "rounded by the device" in step.note and place.register()["retention"].outcome is Outcome.UNCHANGED


def test_what_is_planned_and_set_by_nobody_is_told(tmp_path: Path) -> None:
    """A longest retention that the recorder does not hold is a fault; the mode stands on its sheet, channel by channel."""
    place, _ = ruled(tmp_path, P30D="PT0S")
    with serving(place.camera, place.tower):
        place.discover(), place.discover(TOWER)
        done = place.registration()
    told = {f.code: f for f in done.findings}
    assert told["REC-9"].severity is Severity.FAULT and told["REC-9"].ref == Ref(Kind.RECORDER, "recorder", "channel 2")
    assert "recording on motion, 5 s before and 20 s after: channel 2 (c1)" in told["REG-3"].measured
    assert "keeps for ever" in told["REG-1"].measured
    with Logbook(place.folder.logbook_file) as log:
        (sheet,) = [s for s in by_hand.sheets(place.plan, done.results, log) if s.device == "recorder"]
    assert {(line.what, line.enter) for line in sheet.lines} >= {("channel 2 (c1): retention", "at most 30 days")}
    assert [parse_duration_s(t) for t in ("P30D", "PT0S", "P1DT2H30M", "P2W", "PT1.5S", "30 days", "P", "-P1D")] == [
        30 * 86400, 0, 95400, 14 * 86400, 1.5, 0, 0, 0,
    ]  # fmt: skip


def test_lenses_are_counted_as_a_person_counts_them() -> None:
    def told(*pairs: tuple[str, str]) -> list[str]:
        profiles = [Profile(f"p{n}", "", None, token, source_name=name) for n, (token, name) in enumerate(pairs)]
        return [next(p.source_name or p.source for p in profiles if p.source == s) for s in sources_in_order(profiles)]

    assert told(("vs_1000", "Lens 2 nord"), ("vs_7", "Lens 10"), ("vs_20", "Lens 1")) == [
        "Lens 1",
        "Lens 2 nord",
        "Lens 10",
    ]
    assert told(("s10", "lens"), ("s9", "lens"), ("s100", "lens")) == ["lens"] * 3, "names that are alike tell nothing"
    assert told(("s10", ""), ("s9", ""), ("s100", "")) == ["s9", "s10", "s100"]


def test_what_changed_places_goes_back(tmp_path: Path) -> None:
    """Two change places and one leaves its channel; taken back, each is where it was, with its own account."""
    tower, tokens = fixed(5)
    place = Rack(tmp_path, tower, [1, 2, 3])
    others = [Settable("127.0.77.12"), Settable("127.0.77.13")]
    with serving(place.camera, *others, tower):
        for host in (HOST, "127.0.77.12", "127.0.77.13", TOWER):
            place.discover(host)
        assert not [s.error for d in place.registration().results for s in d.steps if s.error]
        before = {n: (tower.receivers[f"v{t}"], tower.names[t]) for n, t in tokens.items()}
        place.plan_channels([2, 1, 5])
        moved = place.registration()
        assert moved.run is not None and tower.on(tokens[5]).startswith("rtsp://127.0.77.13")
        with Logbook(place.folder.logbook_file) as log:
            undone = asyncio.run(undo(place.keyring(log), moved.run or 0, lambda *_: None))
        assert all(u.taken_back for u in undone), [u.why for u in undone]
    assert {n: (tower.receivers[f"v{t}"], tower.names[t]) for n, t in tokens.items()} == before
