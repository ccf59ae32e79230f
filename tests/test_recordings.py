"""What recorders keep: bytes and orders of the standards, spans by hand, and a stand-in's archive, tried with the program."""

from __future__ import annotations

import asyncio
import json
from datetime import UTC, datetime, timedelta
from pathlib import Path
from types import SimpleNamespace
from zoneinfo import ZoneInfo

import av
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree

from conftest import DATA, StartStandIn, zentrale
from zentrale.errors import DeviceError, InputError, RemoteProtocolError, TwiceError
from zentrale.jobs.checks.stored_judging import Live, Played, judge
from zentrale.jobs.known.spans import common, joined, total, wanted, without
from zentrale.jobs.recorders.history import EventSearch, History, by_track, spans_of, wound
from zentrale.jobs.recorders.searching import recordings_found
from zentrale.jobs.recordings.kept_list import _as_planned
from zentrale.jobs.recordings.moments import moment_of
from zentrale.protocols import soap
from zentrale.protocols.onvif import history, replay
from zentrale.protocols.onvif.history import SearchState, TrackEvent
from zentrale.protocols.onvif.replay import Stamp
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.sdp import Media
from zentrale.protocols.streams.stored_sound import StoredSound
from zentrale.site.model import Camera, Policy, RecordingPlan, StreamPlan

LONDON = ZoneInfo("Europe/London")
AT = datetime(2026, 11, 30, 20, 0, 0, 500_000, tzinfo=UTC)
# 0xABAC, three words: 1796068800 + 2208988800 s since 1900 = 0xEEB85440, a half = 0x80000000; C and D; CSeq 7.
EXTENSION = bytes.fromhex("abac0003" "eeb85440" "80000000" "a0070000")  # fmt: skip


def test_the_time_of_a_packet_is_read_from_the_standards_bytes() -> None:
    """ONVIF Streaming specification, RTP header extension; RFC 3550 clause 5.3.1."""
    packet = RtpPacket.parse(bytes.fromhex("9060000100000002000000ff") + EXTENSION + b"\x65picture")
    stamp = replay.parse_stamp(packet.extension)
    assert stamp == Stamp(AT.timestamp(), key=True, apart=True, cseq=7) and stamp.at == AT
    assert (packet.payload, replay.serialize_stamp(stamp)[1]) == (b"\x65picture", EXTENSION[4:])
    assert replay.parse_stamp((0xBEDE, EXTENSION[4:])) is None and replay.parse_stamp((0xABAC, b"\0" * 8)) is None


def test_what_is_asked_of_a_replay_stands_in_the_standards_order() -> None:
    fields = dict(replay.Replay(AT, AT + timedelta(seconds=10), key_pictures=True).fields())
    assert fields["Range"] == "clock=20261130T200000.500Z-20261130T200010.500Z"
    assert (fields["Rate-Control"], fields["Immediate"], fields["Frames"]) == ("no", "yes", "intra")
    assert replay.parse_range("clock=20261130T200000Z-") == (AT.replace(microsecond=0), None)
    assert replay.parse_range("npt=0-") == (None, None) == replay.parse_range("clock=gestern-")
    asked = history.find_events(["REC001"], AT, AT, 100, 60)
    assert [etree.QName(e).localname for e in asked] == [
        "StartPoint", "EndPoint", "Scope", "SearchFilter", "IncludeStartState", "MaxMatches", "KeepAliveTime",
    ]  # fmt: skip
    results = [etree.QName(e).localname for e in history.get_results("S", 9, 5)]
    assert results == ["SearchToken", "MinResults", "MaxResults", "WaitTime"]


def test_results_of_another_makers_prefixes_are_read_and_nonsense_is_left_out() -> None:
    event = (
        '<x:Result><x:RecordingToken>R</x:RecordingToken><x:TrackToken>T</x:TrackToken><x:Time>{at}</x:Time><x:Event>'
        '<n:Topic Dialect="d">{topic}</n:Topic><n:Message><x:Message UtcTime="{at}"><x:Data><x:SimpleItem Name="IsDataPresent" '
        'Value="{value}"/></x:Data></x:Message></n:Message></x:Event><x:StartStateEvent>0</x:StartStateEvent></x:Result>'
    )  # fmt: skip
    some = [
        event.format(at="2026-11-30T20:00:00Z", topic="o:RecordingHistory/Track/State", value="1"),
        event.format(at="2026-11-30T21:00:00+01:00", topic="o:RecordingHistory/Track/State", value="false"),
        event.format(at="soon", topic="o:RecordingHistory/Track/State", value="true"),
        event.format(at="2026-11-30T20:00:00Z", topic="o:RuleEngine/Other", value="true"),
    ]
    body = f'<r xmlns:x="{soap.NS["tt"]}" xmlns:s="{soap.NS["tse"]}" xmlns:n="{soap.NS["wsnt"]}"><s:ResultList>' \
           f"<x:SearchState>Completed</x:SearchState>{''.join(some)}</s:ResultList></r>"  # fmt: skip
    state, events = history.parse_results(etree.fromstring(body))
    assert state is SearchState.COMPLETED
    assert [(e.at, e.present) for e in events] == [
        (AT.replace(microsecond=0), True),
        (AT.replace(microsecond=0), False),
    ]


SPANS = st.lists(
    st.tuples(st.integers(0, 500), st.integers(1, 60)).map(lambda p: (float(p[0]), float(p[0] + p[1])))
).map(joined)


@given(SPANS, SPANS)
def test_what_is_common_and_what_is_not_is_all_of_it(
    some: list[tuple[float, float]], others: list[tuple[float, float]]
) -> None:
    both, rest = common(some, others), without(some, others)
    assert total(both) + total(rest) == total(some) and total(common(rest, others)) == 0
    assert joined([*both, *rest]) == some


def test_hours_of_the_wall_clock_in_a_week_in_which_it_is_set_back() -> None:
    """On 2026-10-25 London goes from BST to GMT: that Sunday has 25 hours, and 18:00 is an hour later in UTC than on Saturday."""
    days = [datetime(2026, 10, d, tzinfo=LONDON).timestamp() for d in (24, 25, 26)]
    sunday = RecordingPlan(mode="timetable", timetable=("Sun 00:00-24:00",))
    assert total(wanted(sunday, LONDON, days[0], days[2]) or []) == 25 * 3600
    evenings = RecordingPlan(mode="timetable", timetable=("Mon-Sun 18:00-19:00",))
    found = [datetime.fromtimestamp(a, UTC).hour for a, _ in wanted(evenings, LONDON, days[0], days[2]) or []]
    assert found == [17, 18] and wanted(RecordingPlan(mode="motion"), LONDON, *days[:2]) is None


@pytest.mark.parametrize(
    ("text", "moment"),
    [
        ("2026-11-24 22:14", datetime(2026, 11, 24, 22, 14, tzinfo=UTC)),
        ("yesterday 06:00:30", datetime(2026, 11, 29, 6, 0, 30, tzinfo=UTC)),
        ("19:30", datetime(2026, 11, 30, 19, 30, tzinfo=UTC)),
        ("2026-10-25 01:30+01:00", datetime(2026, 10, 25, 0, 30, tzinfo=UTC)),
        ("2026-07-01T12:00Z", datetime(2026, 7, 1, 12, tzinfo=UTC)),
        ("2026-10-25 01:30", None), ("2026-03-29 01:30", None), ("tomorrow", None), ("22.14", None), ("2026-13-01 10:00", None),
    ],
)  # fmt: skip
def test_a_moment_is_what_the_sites_clocks_show(text: str, moment: datetime | None) -> None:
    if moment is not None:
        assert moment_of(text, "Europe/London", AT) == moment
        return
    with pytest.raises(InputError) as told:
        moment_of(text, "Europe/London", AT)
    if isinstance(told.value, TwiceError):
        first, second = told.value.both
        assert second.astimezone(UTC) - first.astimezone(UTC) == timedelta(hours=1) and "BST" in told.value.advice


class Told:
    """A recorder that tells its events in its own way; the standard's messages, and no code of the stand-in's."""

    def __init__(self, events: list[TrackEvent], page: int = 500, most: int = 10_000, dies_after: int = 0) -> None:
        self.events, self.page, self.most, self.dies_after, self.searches = events, page, most, dies_after, 0
        self.left: list[TrackEvent] = []
        self.told = 0

    async def call(self, service: str, request: etree._Element) -> etree._Element:
        if etree.QName(request).localname == "FindEvents":
            start = history.find_events_request(request).start
            self.searches += 1
            before = {e.recording: e.present for e in self.events if e.at <= start}
            state = [TrackEvent(r, "V", start, before.get(r, False), start=True) for r in ("A", "B")]
            self.left = [*state, *(e for e in self.events if e.at > start)][: self.most]
            return history.find_events_response("S")
        if self.dies_after and self.told >= self.dies_after:
            raise DeviceError("no such search")
        some, self.left = self.left[: self.page], self.left[self.page :]
        self.told += len(some)
        return history.results_response(SearchState.SEARCHING if self.left else SearchState.COMPLETED, some)


@pytest.mark.parametrize("way", [{}, {"page": 1}, {"most": 3}, {"page": 2, "most": 5}])
def test_a_search_is_whole_however_it_is_told(way: dict[str, int]) -> None:
    """Two channels: A from 1 h to 3 h and 4 h to 9 h, B from 2 h on."""
    hour = [AT + timedelta(hours=h) for h in range(11)]
    told = [("A", 1, True), ("B", 2, True), ("A", 3, False), ("A", 4, True), ("A", 9, False)]
    recorder = Told([TrackEvent(r, "V", hour[h], present) for r, h, present in told], **way)
    search = EventSearch(recorder)  # type: ignore[arg-type]
    tracks = by_track(asyncio.run(search.events(["A", "B"], hour[0], hour[10])))
    spans = {r: [(round((a - hour[0].timestamp()) / 3600), round((b - hour[0].timestamp()) / 3600)) for a, b in
                 spans_of(some, None, hour[10])] for (r, _), some in tracks.items()}  # fmt: skip
    assert spans == {"A": [(1, 3), (4, 9)], "B": [(2, 10)]} and not search.problem


def test_recordings_of_a_recorder_that_lets_nobody_set_them_are_found_by_its_search() -> None:
    """Messages as the Recording Search specification has them, two recordings in an answer; one of them is told twice."""
    item = (
        "<t:RecordingInformation><t:RecordingToken>{0}</t:RecordingToken><t:Source><t:SourceId/><t:Name>n {0}</t:Name>"
        "</t:Source><t:Content/><t:Track><t:TrackToken>V1</t:TrackToken><t:TrackType>Video</t:TrackType><t:Description/></t:Track>"
        "<t:RecordingStatus>Recording</t:RecordingStatus></t:RecordingInformation>"
    )
    head = f'<r xmlns:t="{soap.NS["tt"]}" xmlns:s="{soap.NS["tse"]}">'
    pages = iter([("Searching", ("A", "B")), ("Completed", ("B", "C"))])

    class Searched:
        async def call(self, service: str, request: etree._Element) -> etree._Element:
            if etree.QName(request).localname == "FindRecordings":
                assert [etree.QName(e).localname for e in request] == ["Scope", "KeepAliveTime"]
                return etree.fromstring(f"{head}<s:SearchToken>7</s:SearchToken></r>")
            state, tokens = next(pages)
            found = "".join(item.format(token) for token in tokens)
            return etree.fromstring(
                f"{head}<s:ResultList><t:SearchState>{state}</t:SearchState>{found}</s:ResultList></r>"
            )

    found = asyncio.run(recordings_found(Searched()))  # type: ignore[arg-type]
    assert [(r.token, r.name, r.tracks) for r in found] == [(n, f"n {n}", (("V1", "Video"),)) for n in "ABC"]


def test_holes_behind_where_a_search_was_cut_short_are_not_known() -> None:
    """Told until 3 h, and nothing of the seven hours after that: what was kept then is neither there nor missing."""
    hour = [AT + timedelta(hours=h) for h in range(11)]
    told = [
        TrackEvent("A", "V", hour[h], present)
        for h, present in ((1, True), (2, False), (3, True), (4, False), (9, True))
    ]
    search = EventSearch(Told(told, page=2, dies_after=6))  # type: ignore[arg-type]
    tracks = by_track(asyncio.run(search.events(["A"], hour[0], hour[10])))
    assert search.known_until == hour[4] + timedelta(milliseconds=1) and "ended by itself" in search.problem, tracks
    camera = SimpleNamespace(name="north", recorder="recorder", channel=1)
    plan = SimpleNamespace(recording=lambda c: RecordingPlan(), site=SimpleNamespace(timezone="Europe/London"))
    spans = spans_of(tracks["A", "V"], None, search.known_until or AT)
    kept = History(spans, None, "search", 1.0, search.problem, search.known_until)
    row = _as_planned(plan, camera, kept, hour[10])  # type: ignore[arg-type]
    assert [round(g.seconds) for g in row.gaps] == [3600] and row.share is None and row.newest == hour[4]


@pytest.mark.parametrize("refuses", [False, True])
def test_a_recorder_that_says_nothing_in_a_hole_is_wound_beyond_it(refuses: bool) -> None:
    """refuses: it takes no moment before its oldest picture, either."""
    begin, now = AT, AT + timedelta(hours=60)
    hole = AT + timedelta(hours=30, seconds=7), AT + timedelta(hours=44, seconds=3)

    asked = 0

    async def first_from(at: datetime) -> datetime | None:
        """From the next key picture on, of which there is one each 2 s."""
        nonlocal asked
        asked += 1
        if at < begin:
            return None if refuses else begin
        key = at + (begin - at) % timedelta(seconds=2)
        return key if not any(hole[0] <= t < hole[1] for t in (at, key)) and key < now else None

    (first, second) = asyncio.run(wound(first_from, now)).main
    assert 0 <= first[0] - begin.timestamp() <= 1 and -2.01 <= first[1] - hole[0].timestamp() <= 0
    assert 0 <= second[0] - hole[1].timestamp() <= 2.01 and -4.01 <= second[1] - now.timestamp() <= 0 and asked < 200


def test_without_a_search_edges_are_found_by_winding_to_a_second() -> None:
    begin, hole, now = (
        AT,
        (AT + timedelta(hours=30, seconds=7), AT + timedelta(hours=44, seconds=3)),
        AT + timedelta(hours=60),
    )

    async def first_from(at: datetime) -> datetime | None:
        at = max(at, begin)
        at = hole[1] if hole[0] <= at < hole[1] else at
        return at if at < now else None

    kept = asyncio.run(wound(first_from, now))
    (a, b), (c, _) = kept.main
    assert (
        (a, c) == (begin.timestamp(), hole[1].timestamp())
        and 0 <= hole[0].timestamp() - b <= 1.01
        and kept.searched == "replay"
    )


def heard(payload: str, sequence: int, timestamp: int, at_s: float, *, marker: bool = True) -> tuple[RtpPacket, Stamp]:
    return RtpPacket(97, sequence, timestamp, 1, bytes.fromhex(payload), marker), Stamp(at_s)


def test_sound_is_taken_from_packets_as_the_standards_have_them() -> None:
    """RFC 3640 clause 3.2.1: two AUs of 3 and 2 bytes behind 32 bits of headers; one of 6 bytes in two packets. Its config
    0x1408: AAC-LC, 16 kHz, one channel. G.711 against the decoder of a media library.
    """
    aac = Media("audio", codec="MPEG4-GENERIC", clock_hz=16000, parameters={
        "config": "1408", "sizelength": "13", "indexlength": "3", "indexdeltalength": "3"})  # fmt: skip
    sound = StoredSound(aac)
    assert sound.format == (16000, 1, False)
    packets = [
        heard("00200018001001020304ff", 1, 0, 10.0), heard("00100030aabbcc", 2, 2048, 10.128, marker=False),
        heard("00100030ddeeff", 3, 2048, 10.128), heard("0010", 4, 3072, 10.2), heard("00100008aa", 5, 4096, 99.0),
    ]  # fmt: skip
    pieces = [piece for packet in packets for piece in sound.push(*packet)]
    assert [(round(p.at_s, 3), p.data.hex()) for p in pieces] == [
        (10.0, "010203"), (10.064, "04ff"), (10.128, "aabbccddeeff"), (99.0, "aa"),
    ]  # fmt: skip
    for law, name in (("PCMA", "pcm_alaw"), ("PCMU", "pcm_mulaw")):
        decoder = av.CodecContext.create(name, "r")
        assert isinstance(decoder, av.AudioCodecContext)
        decoder.sample_rate, decoder.layout = 8000, "mono"
        (frame,) = decoder.decode(av.Packet(bytes(range(256))))
        (piece,) = StoredSound(Media("audio", codec=law, clock_hz=8000)).push(
            *heard(bytes(range(256)).hex(), 1, 0, 5.0)
        )
        assert list(frame.to_ndarray()[0]) == [
            int.from_bytes(piece.data[n : n + 2], signed=True) for n in range(0, 512, 2)
        ]
    for bad in ({"config": "2b11"}, {"config": "zz"}, {}):
        with pytest.raises(RemoteProtocolError):
            StoredSound(Media("audio", codec="MPEG4-GENERIC", parameters={**aac.parameters, **bad} if bad else {}))


@given(st.binary(max_size=40), st.integers(0, 0xFFFFFFFF), st.booleans())
def test_whatever_calls_itself_sound_is_read_without_an_exception(payload: bytes, timestamp: int, marker: bool) -> None:
    sound = StoredSound(
        Media("audio", codec="MPEG4-GENERIC", clock_hz=16000, parameters={"config": "1408", "sizelength": "13"})
    )
    for number in (1, 2, 9):
        pieces = sound.push(RtpPacket(97, number, timestamp, 1, payload, marker), Stamp(1.0))
        assert sum(len(p.data) for p in pieces) <= 2 * len(payload)


def played(times: list[float], **more: object) -> Played:
    held = {"asked": AT, "until": AT + timedelta(seconds=10), "now": AT + timedelta(seconds=11), "codec": "H264",
            "size": (320, 180), "keys": tuple(AT.timestamp() + t for t in times[::10]), **more,
            "times": tuple(AT.timestamp() + t for t in times)}  # fmt: skip
    return Played("north", "recorder", 1, **held)  # type: ignore[arg-type]


TENTHS = [n / 10 for n in range(100)]


@pytest.mark.parametrize(
    ("seen", "live", "code", "words"),
    [
        (played(TENTHS), Live((320, 180), (160, 96), "H264", 10), "", ""),
        (played(TENTHS, size=(160, 96)), Live((320, 180), (160, 96), "H264", 10), "REC-23", "its sub stream is stored, 160x96"),
        (played(TENTHS, codec="H265"), Live(), "REC-23", "stored as H265"),
        (played(TENTHS[::2]), Live(), "REC-23", "5.0 pictures/s stored"),
        (played([t for t in TENTHS if not 3 < t < 6.5]), Live(), "REC-23", "1 hole in 10 s, the longest 3.5 s"),
        (played([t for t in TENTHS if not 3 < t < 6.5]), Live(late=True), "", ""),
        (played([t for t in TENTHS if not 3 < t < 6.5]), Live(pauses=True), "", ""),
        (played([*TENTHS[:30], *(40 + t for t in TENTHS[:31])], until=AT + timedelta(seconds=44)), Live(pauses=True), "", ""),
        (played(TENTHS[:40]), Live(), "REC-23", "it ends 6 s before"),
        (played(TENTHS, keys=(AT.timestamp(), AT.timestamp() + 4)), Live(), "REC-23", "key pictures 4.0 s apart"),
        (played([t + 3600 for t in TENTHS]), Live(), "REC-24", "asked for 2026-11-30 20:00:00"),
        (played(TENTHS, alike=False, said="its edges agree to 8 %"), Live(), "REC-21", "8 %"),
        (played([], error="nothing is played"), Live(), "REC-22", "nothing is played"),
        (played([], unplayed="no replay is offered"), Live(), "", ""),
    ],
)  # fmt: skip
def test_what_is_played_is_held_against_live_and_plan(seen: Played, live: Live, code: str, words: str) -> None:
    camera = SimpleNamespace(name="north", where="cameras.csv line 2")
    plan = StreamPlan(resolution="320x180", fps=10, bitrate_kbps=300, keyframe_interval_s=1)  # type: ignore[arg-type]
    verdicts = judge(camera, plan, seen, live, Policy())  # type: ignore[arg-type]
    assert [f.code for f in verdicts.findings] == ([code] if code else []), verdicts
    assert not code or words in verdicts.findings[0].measured
    assert bool(verdicts.judged) != bool(seen.unplayed)


def test_an_archive_is_listed_played_saved_and_checked(
    ready_site: Path, start_stand_in: StartStandIn, tmp_path: Path
) -> None:
    """Thirty days with a hole of 35 minutes on one channel, 60 h ago; the film's pictures are counted by another reader."""
    seed = "seed_archive = { days = 30, gaps = [{ hours_ago = 60, minutes = 35, channels = [1] }], sound = 'PCMA' }\n"
    scenario = (DATA / "small.toml").read_text().replace("channels = 4\n", f"channels = 4\nsearch_page = 7\n{seed}")
    (tmp_path / "archive.toml").write_text(scenario)
    start_stand_in(tmp_path / "archive.toml")
    began = datetime.now(UTC)
    assert zentrale("discover", cwd=ready_site).code in (0, 1) and zentrale("register", cwd=ready_site).code == 0
    listed = zentrale("recordings", "--json", "--figures", cwd=ready_site)
    rows = {row["camera"]: row for row in listed.json["channels"]}
    (hole,) = [g for g in rows["north"]["gaps"] if g["seconds"] > 600]
    start = datetime.fromisoformat(hole["from"])
    assert hole["seconds"] == pytest.approx(2100, abs=1) and abs(began - timedelta(hours=60) - start) < timedelta(
        seconds=60
    )
    assert not [g for g in rows["south"]["gaps"] if g["seconds"] > 600] and rows["north"]["searched"] == "search"
    assert rows["north"]["share"] == pytest.approx(1 - 2100 / (30 * 86400), abs=0.0005) and listed.code == 1
    assert (ready_site / "output/recordings/recordings.png").stat().st_size > 10_000
    whole = began.replace(microsecond=0) - timedelta(hours=48)
    night = zentrale("recordings", "play", "--at", whole.isoformat(), "--json", "--reason", "a test", cwd=ready_site)
    assert night.code == 0 and [p["off_s"] for p in night.json["pictures"]] == [0, 0], night.all
    inside = zentrale(
        "recordings", "play", "--at", (start + timedelta(minutes=5)).isoformat(), "--json", cwd=ready_site
    )
    north, south = inside.json["pictures"]
    assert (
        inside.code == 1
        and north["got"] is None
        and "the nearest is" in north["says"]
        and south["off_s"] == pytest.approx(0, abs=1.1)
    )
    span = ["--from", whole.isoformat(), "--to", (whole + timedelta(seconds=20)).isoformat(), "--only", "north"]
    saved = zentrale("recordings", "save", *span, "--json", cwd=ready_site)
    (clip,) = saved.json["clips"]
    film = Path(clip["file"])
    with av.open(str(film)) as container:
        times = [float(frame.time) for frame in container.decode(video=0)]
    with av.open(str(film)) as container:
        sound = np.concatenate([frame.to_ndarray()[0] for frame in container.decode(audio=0)]).astype(float)
    assert (len(times), clip["frames"], clip["lost"]) == (101, 101, 0) or (len(times), clip["frames"]) == (100, 100)
    # A tone of 440 Hz in the first tenth of each second: it begins where the film does, and is as loud as it was made.
    assert clip["sound"] == "PCMA" and len(sound) >= 20 * 8000 and 7000 < abs(sound).max() < 8200
    assert [bool(abs(sound[8000 * n : 8000 * n + 800]).max() > 1000) for n in range(20)] == [True] * 20
    assert abs(sound.reshape(-1, 1600)[:100].reshape(20, 8000)[:, 900:]).max() < 100
    assert times[:3] == pytest.approx([0, 0.2, 0.4]) and film.stat().st_mode & 0o777 == 0o600
    assert zentrale("recordings", "check", str(film), cwd=ready_site).code == 0
    film.write_bytes(film.read_bytes().replace(b"\0\0\0\1", b"\0\0\0\2", 1) + b"x")
    altered = zentrale("recordings", "check", str(film), "--json", cwd=ready_site)
    assert altered.code == 1 and altered.json["files"][0]["same"] is False
    assert zentrale("recordings", "play", "--at", "2026-12-24 25:00", cwd=ready_site).code == 2
    journal = json.dumps([night.json, saved.json])
    assert "installer-1" not in journal and Camera.__name__ not in journal
