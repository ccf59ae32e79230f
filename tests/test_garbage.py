"""Every parser of what comes from the network takes anything, and raises nothing but its own errors."""

from __future__ import annotations

import contextlib
from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from reference_meter import recorded
from zentrale.errors import InputError, RemoteProtocolError
from zentrale.protocols import h264, h265, http_auth, jpeg, rtcp, rtsp, soap, ws_discovery
from zentrale.protocols.onvif import (
    device,
    events,
    media,
    network,
    recording,
    recording_jobs,
    schedule,
    search,
    storage,
)
from zentrale.protocols.rtp import RtpPacket
from zentrale.protocols.rtsp_client import PlayerSession
from zentrale.protocols.sdp import Media, SessionDescription
from zentrale.protocols.stream_address import StreamAddress
from zentrale.protocols.streams.figures import figures
from zentrale.protocols.streams.meter import StreamMeter
from zentrale.protocols.xml import Element

ADDRESS = StreamAddress.parse("rtsp://10.0.0.1/x")


def _session(data: bytes) -> None:
    session = PlayerSession(ADDRESS)
    session.start()
    session.receive(data)


def _meter(data: bytes) -> None:
    for codec in ("H264", "H265", "JPEG", "OTHER"):
        meter = StreamMeter(Media("video", payload_type=96, codec=codec), 0.0)
        for number in range(3):
            meter.add_rtp(RtpPacket(96, number, 0, 1, data, number == 2).serialize(), float(number))
        meter.result("tcp")


PARSERS: dict[str, Callable[[bytes], object]] = {
    "rtp": RtpPacket.parse,
    "rtcp": rtcp.parse,
    "sdp": SessionDescription.parse,
    "rtsp": lambda data: rtsp.Reader().receive(data),
    "rtsp session": _session,
    "rtsp transport": lambda data: rtsp.parse_transport(data.decode("latin-1")),
    "soap": soap.parse,
    "probe": ws_discovery.parse_probe,
    "matches": ws_discovery.parse_matches,
    "challenge": lambda data: http_auth.parse_offers([data.decode("latin-1")]),
    "h264 sps": lambda data: h264.parse_sps(b"\x67" + data),
    "h265 sps": lambda data: h265.parse_sps(b"\x42\x01" + data),
    "jpeg": lambda data: jpeg.JpegDepacketizer().push(data, 0, True, 0),
    "meter": _meter,
    "address": lambda data: StreamAddress.parse("rtsp://" + data.decode("latin-1")),
    "time": lambda data: soap.parse_time(data.decode("latin-1")),
}
PREFIXES = [b"", b"RTSP/1.0 200 OK\r\nCSeq: 1\r\n", b"$\x00", b"v=0\r\nm=video 0 RTP/AVP 96\r\na=", b"\x80\xc8\x00\x06",
            b"<s:Envelope xmlns:s='http://www.w3.org/2003/05/soap-envelope'><s:Body>", b"\x1c\x85", b"\x62\x01\x93"]  # fmt: skip


@pytest.mark.parametrize("name", PARSERS)
@given(prefix=st.sampled_from(PREFIXES), data=st.binary(max_size=400))
def test_garbage_is_refused_and_breaks_nothing(name: str, prefix: bytes, data: bytes) -> None:
    with contextlib.suppress(RemoteProtocolError, InputError):
        PARSERS[name](prefix + data)


READERS = [
    device.parse_services, device.parse_capabilities, device.parse_information, device.parse_system_time,
    device.parse_users, device.parse_hostname, device.parse_scopes, network.parse_interfaces, media.parse_profiles,
    media.parse_uri, media.parse_set_encoder, recording.parse_receivers, recording.parse_recordings,
    recording_jobs.parse_jobs, recording_jobs.parse_job_state, search.parse_information, recording.parse_capabilities,
    recording_jobs.parse_options, search.parse_media_attributes, schedule.parse_list, events.parse_create, events.parse_pull,
    storage.parse_configurations,
]  # fmt: skip
NAMES = [
    *((soap.TT, n) for n in ("Configuration", "Resolution", "Width", "Token", "Source", "State", "Date", "Year", "Uri")),
    (soap.TT, "Tracks"),
    *((soap.TT, n) for n in ("SourceToken", "EventFilter", "Filter", "Topic", "Before", "Message", "Data", "SimpleItem")),
    *((soap.TT, n) for n in ("Profiles", "Services", "JobConfiguration", "TrackAttributes", "VideoAttributes")),
    *((soap.TRC, n) for n in ("JobItem", "RecordingItem", "Options", "Job", "Track", "Capabilities", "State")),
    *((soap.TSC, n) for n in ("Schedule", "Standard", "NextStartReference")),
    *((soap.TEV, n) for n in ("SubscriptionReference",)),
    *((soap.WSNT, n) for n in ("NotificationMessage", "Topic", "Message")),
    *((soap.WSA, n) for n in ("Address", "ReferenceParameters")),
    *((soap.TDS, n) for n in ("StorageConfigurations", "Data")),
    (soap.TSE, "MediaAttributes"),
]  # fmt: skip
trees = st.recursive(
    st.text("0123456789.-abc", max_size=12),
    lambda inner: st.lists(st.tuples(st.sampled_from(NAMES), inner), max_size=4),
    max_leaves=12,
)


def _grow(parent: Element, tree: object) -> None:
    if isinstance(tree, str):
        parent.text = tree
    elif isinstance(tree, list):
        for (maker, name), inner in tree:
            child = maker(
                name, Name="Failed", Value="x", token="t", type="NFS", Spare="1", Type="/Profile", ScheduleToken="s"
            )
            parent.append(child)
            _grow(child, inner)


@given(trees, st.sampled_from(["GetProfilesResponse", "GetSystemDateAndTimeResponse"]))
def test_answers_with_anything_in_them_break_nothing(tree: object, name: str) -> None:
    for maker in (soap.TDS, soap.TRT, soap.TRC, soap.TEV):
        root = maker(name)
        _grow(root, tree)
        for reader in READERS:
            with contextlib.suppress(RemoteProtocolError):
                reader(root)


numbers = st.integers(0, 0xFFFF) | st.integers(0, 300)
stamps = st.integers(0, 0xFFFFFFFF) | st.integers(0, 40).map(lambda n: 3600 * n)


@given(st.lists(st.tuples(numbers, stamps, st.integers(1, 3), st.booleans(), st.binary(max_size=4)), max_size=200))
def test_figures_stay_sane_on_nonsense(packets: list[tuple[int, int, int, bool, bytes]]) -> None:
    records = recorded(
        (index / 100, RtpPacket(96, sequence, timestamp, ssrc, payload, marker))
        for index, (sequence, timestamp, ssrc, marker, payload) in enumerate(packets)
    )
    told = figures(records, 90_000, until_s=10.0)
    counted = told.packets_received + told.packets_doubled + told.packets_foreign
    assert (
        0
        <= told.packets_received
        <= counted
        <= len(packets)
        <= counted + len(packets) * told.sequence_jumps + len(packets)
    )
    assert told.packets_lost >= 0 and told.packets_late <= told.packets_reordered <= told.packets_received
    assert 0 <= told.frames_damaged <= told.frames <= told.packets_received
    assert all(value is None or value > 0 for value in (told.fps, told.keyframe_interval_s) if value != 0)
    assert (told.jitter_ms or 0) >= 0
