"""Ways of discovery, each against bytes written down from its standard or a responder that is not ours; who a found device is;
why one is not found; and the commands around it.
"""

from __future__ import annotations

import asyncio
import contextlib
import ipaddress
import re
import shutil
import signal
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import (
    CAMERAS,
    DATA,
    OWN_NETWORK,
    PROGRAM,
    SITE,
    Result,
    StartStandIn,
    environment,
    everything_below,
    make_site,
    make_vault,
    measured,
    zentrale,
)  # fmt: skip
from test_matching import found
from zentrale.errors import RemoteProtocolError
from zentrale.field import arp, neighbours, service_browser, upnp
from zentrale.field.adapters import Adapter, Choice
from zentrale.field.ear import MAX_OF_ONE, Ear
from zentrale.field.probe import probe, probe_directly
from zentrale.field.web_page import web_page
from zentrale.jobs.discovery import discovering
from zentrale.jobs.discovery.matching import candidates, match_devices
from zentrale.jobs.discovery.missing import Evidence, add_address_command, why_missing
from zentrale.jobs.discovery.stream_list import path_patterns, sub_paths
from zentrale.jobs.finders.finder import Search, Sighting
from zentrale.jobs.finders.merging import merge
from zentrale.jobs.known.found_devices import FoundDevice
from zentrale.jobs.known.planned import planned_devices
from zentrale.logbook.store import Logbook
from zentrale.protocols import dhcp, frames, soap, ssdp, ws_discovery
from zentrale.protocols.onvif import media2
from zentrale.protocols.ws_discovery import Kind, Match, Probe, Version
from zentrale.site.folder import SiteFolder
from zentrale.site.model import Plan
from zentrale.site.reading import read_plan

LO = Adapter("lo", "127.0.0.1", ipaddress.IPv4Network("127.0.0.0/8"))
ETH = Adapter("eth0", "127.0.71.9", ipaddress.IPv4Network("127.0.71.0/27"))
NORTH_MAC = "02:5a:71:00:00:11"

# WS-Discovery 1.1 (OASIS, 2009), example 1-2 with the values of a camera: other namespaces and prefixes than ONVIF's version.
ANSWER_1_1 = """<soap:Envelope xmlns:soap="http://www.w3.org/2003/05/soap-envelope" xmlns:w="http://www.w3.org/2005/08/addressing"
 xmlns:disco="http://docs.oasis-open.org/ws-dd/ns/discovery/2009/01"><soap:Header>
<w:Action>http://docs.oasis-open.org/ws-dd/ns/discovery/2009/01/ProbeMatches</w:Action><w:MessageID>urn:uuid:e32e6863</w:MessageID>
<w:RelatesTo>{relates}</w:RelatesTo><w:To>http://www.w3.org/2005/08/addressing/anonymous</w:To></soap:Header>
<soap:Body><disco:ProbeMatches><disco:ProbeMatch><w:EndpointReference><w:Address>urn:uuid:98190dc2</w:Address></w:EndpointReference>
<disco:Types>net:NetworkVideoTransmitter</disco:Types><disco:Scopes>onvif://www.onvif.org/name/gate</disco:Scopes>{xaddrs}
<disco:MetadataVersion>75965</disco:MetadataVersion></disco:ProbeMatch></disco:ProbeMatches></soap:Body></soap:Envelope>"""
XADDRS = "<disco:XAddrs>http://127.0.71.40/onvif/device_service</disco:XAddrs>"


@pytest.fixture
def plan(tmp_path: Path) -> Plan:
    """north has MAC address and address in the plan, south an address only."""
    return read_plan(SiteFolder(make_site(tmp_path)))


# What is sent and read


def test_both_versions_of_ws_discovery_are_read() -> None:
    (match,) = ws_discovery.parse_matches(ANSWER_1_1.format(relates="urn:me", xaddrs=XADDRS).encode())
    assert match == Match(
        "urn:uuid:98190dc2", ("NetworkVideoTransmitter",), ("onvif://www.onvif.org/name/gate",),
        ("http://127.0.71.40/onvif/device_service",), "urn:me",
    )  # fmt: skip
    asked = ws_discovery.serialize_probe(Probe("urn:1", (), Version.V1_1)).decode()
    assert "urn:docs-oasis-open-org:ws-dd:ns:discovery:2009:01" in asked and "2009/01/Probe<" in asked
    resolve = Probe("urn:2", (), Version.V2005, "urn:uuid:98190dc2")
    assert ws_discovery.parse_probe(ws_discovery.serialize_probe(resolve)) == resolve
    for kind in (Kind.HELLO, Kind.BYE):
        message = ws_discovery.parse_message(ws_discovery.serialize_announcement(kind, match, "urn:3", Version.V1_1))
        assert message is not None and message.kind is kind and message.matches[0].endpoint == match.endpoint
        assert ws_discovery.parse_matches(ws_discovery.serialize_announcement(kind, match, "urn:3")) == []


def test_ssdp_as_the_device_architecture_writes_it() -> None:
    """UPnP Device Architecture 1.1, clauses 1.3.3, 1.2.2 and 2.3; names in any case, spaces as people leave them."""
    answer = (
        b"HTTP/1.1 200 OK\r\nCACHE-CONTROL: max-age=1800\r\nEXT:\r\nlocation:http://192.168.1.9:49152/desc.xml\r\n"
        b"SERVER: OS/1.0 UPnP/1.1 thing/1.0\x1b[31m\r\nST: upnp:rootdevice\r\nUSN: uuid:2f40::upnp:rootdevice\r\n\r\n"
    )
    told = ssdp.parse(answer)
    assert told is not None and told.location == "http://192.168.1.9:49152/desc.xml" and told.uuid == "uuid:2f40"
    assert "\x1b" not in told.server
    bye = b"NOTIFY * HTTP/1.1\r\nNTS: ssdp:byebye\r\nUSN: uuid:2f40\r\n\r\n"
    assert (gone := ssdp.parse(bye)) is not None and gone.leaving
    assert ssdp.parse(ssdp.serialize_search()) is None and ssdp.is_search(ssdp.serialize_search())
    description = ssdp.parse_description(
        b'<?xml version="1.0"?><root xmlns="urn:schemas-upnp-org:device-1-0"><device>'
        b"<deviceType>urn:schemas-upnp-org:device:Printer:1</deviceType><friendlyName>Office</friendlyName>"
        b"<manufacturer>Quill</manufacturer><modelName>P9</modelName><UDN>uuid:2f40</UDN></device></root>"
    )
    assert (description.kind, description.maker, description.model) == ("Printer", "Quill", "P9")
    with pytest.raises(RemoteProtocolError):
        ssdp.parse_description(b"<root/>")


@given(st.binary(max_size=300))
def test_no_bytes_break_the_readers(data: bytes) -> None:
    ssdp.parse(data)
    ssdp.is_search(data)
    dhcp.parse(data)
    frame = frames.parse(data)
    if frame is not None:
        frames.arp_reply(frame)
        frames.udp_of(frame)
        frames.is_igmp_query(frame)
    for read in (ssdp.parse_description, ws_discovery.parse_message):
        with contextlib.suppress(RemoteProtocolError):
            read(data)


def test_arp_frames_byte_for_byte() -> None:
    """RFC 826: Ethernet, IPv4, request; the answer as a host of that address sends it."""
    asked = frames.arp_request("02:00:00:00:00:01", "10.0.0.1", "10.0.0.9")
    assert asked[:42].hex() == (
        "ffffffffffff" "020000000001" "0806" "0001" "0800" "06" "04" "0001"
        "020000000001" "0a000001" "000000000000" "0a000009"
    )  # fmt: skip
    told = "020000000001025a7100001108060001080006040002025a710000110a0000090200000000010a000001"
    frame, own = frames.parse(bytes.fromhex(told) + b"\0" * 18), frames.parse(asked)
    assert frame is not None and frames.arp_reply(frame) == ("10.0.0.9", NORTH_MAC), "padded as Ethernet asks for"
    assert own is not None and frames.arp_reply(own) is None


def test_neighbour_tables_of_three_systems() -> None:
    linux = (
        "IP address       HW type     Flags       HW address            Mask     Device\n"
        "10.0.0.9         0x1         0x2         02:5A:71:00:00:11     *        eth0\n"
        "10.0.0.8         0x1         0x0         00:00:00:00:00:00     *        eth0\n"
    )
    macos = "? (10.0.0.9) at 2:5a:71:0:0:11 on en0 ifscope [ethernet]\n? (10.0.0.8) at (incomplete) on en0 ifscope [ethernet]\n"
    windows = (
        "\nInterface: 10.0.0.1 --- 0x5\n  Internet Address      Physical Address      Type\n"
        "  10.0.0.9              02-5a-71-00-00-11     dynamic\n  224.0.0.22            01-00-5e-00-00-16     static\n"
    )
    for told in (neighbours.parse_linux(linux), neighbours.parse_macos(macos), neighbours.parse_windows(windows)):
        assert told == {"10.0.0.9": NORTH_MAC}


def test_media_2_profiles() -> None:
    """ONVIF Media 2 (ver20): the key-frame interval is an attribute, H265 a codec."""
    envelope = soap.parse(
        b'<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:m="http://www.onvif.org/ver20/media/wsdl" '
        b'xmlns:tt="http://www.onvif.org/ver10/schema"><s:Body><m:GetProfilesResponse><m:Profiles token="P1">'
        b"<m:Name>Main</m:Name>"
        b'<m:Configurations><m:VideoEncoder token="E1" GovLength="50" Profile="Main"><tt:Name>e</tt:Name><tt:Encoding>H265'
        b"</tt:Encoding><tt:Resolution><tt:Width>3840</tt:Width><tt:Height>2160</tt:Height></tt:Resolution><tt:RateControl "
        b'ConstantBitRate="true"><tt:FrameRateLimit>12.5</tt:FrameRateLimit><tt:BitrateLimit>6000</tt:BitrateLimit></tt:RateControl>'
        b'</m:VideoEncoder></m:Configurations></m:Profiles><m:Profiles token="P2"><m:Name>none</m:Name></m:Profiles>'
        b"</m:GetProfilesResponse></s:Body></s:Envelope>"
    )
    assert envelope.body is not None
    main, none = media2.parse_profiles(envelope.body)
    assert main.encoder is not None and none.encoder is None
    e = main.encoder
    assert (e.codec, e.width_px, e.height_px, e.fps, e.bitrate_kbps, e.govlength) == (
        "H265",
        3840,
        2160,
        12.5,
        6000,
        50,
    )


# On the wire, against responders that are not the stand-in


def test_what_is_heard_while_this_program_is_busy_is_not_lost() -> None:
    """Four hundred answers within a moment, while the event loop does something else for a second."""
    listening = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    listening.bind(("127.0.0.1", 0))
    to = listening.getsockname()
    with Ear([listening]) as ear, socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
        for number in range(400):
            sender.sendto(f"answer {number}".encode().ljust(1400), to)
            if number % 50 == 0:
                time.sleep(0.01)
        time.sleep(0.5)
        heard = ear.take()
        assert len(heard) == 400 and not ear.dropped() and heard[0].host == "127.0.0.1"
        for _ in range(MAX_OF_ONE):
            sender.sendto(b"and again", to)
            time.sleep(0.0002)
        time.sleep(0.5)
        assert len(ear.take()) == MAX_OF_ONE - 400 and ear.left_out["127.0.0.1"] == 400, "one host is bounded"


class _Responder(threading.Thread):
    """Answers each datagram that comes to a group or an address with what `answer` makes of it."""

    def __init__(self, group: str, port: int, answer: object, host: str = "127.0.71.40") -> None:
        super().__init__(daemon=True)
        self.answer = answer
        self.listening = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        self.listening.bind((group, port))
        if ipaddress.ip_address(group).is_multicast:
            member = socket.inet_aton(group) + socket.inet_aton("127.0.0.1")
            self.listening.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, member)
        self.sender = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.sender.bind((host, 0))
        self.sender.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton("127.0.0.1"))

    def run(self) -> None:
        while True:
            try:
                data, source = self.listening.recvfrom(65535)
            except OSError:
                return
            for answer in self.answer(data):  # type: ignore[operator]
                self.sender.sendto(answer, source)


@contextlib.contextmanager
def responder(group: str, port: int, answer: object) -> Iterator[_Responder]:
    thread = _Responder(group, port, answer)
    thread.start()
    try:
        yield thread
    finally:
        with contextlib.suppress(OSError):
            thread.listening.shutdown(socket.SHUT_RDWR)
        thread.listening.close()
        thread.sender.close()


def test_a_device_of_the_newer_version_that_tells_its_address_only_when_asked() -> None:
    """It answers 1.1 alone, without an address; the address comes with the answer to Resolve. Another says Hello, one Bye."""
    hello = Match("urn:uuid:new", (), (), ("http://127.0.71.40/x",))
    bye = replace(hello, endpoint="urn:uuid:old")

    def answer(data: bytes) -> list[bytes]:
        text = data.decode()
        number = re.search(r"MessageID[^>]*>([^<]+)<", text)
        if number is None:  # somebody else on the group
            return []
        out = []
        if "2009/01/Probe<" in text:
            out.append(ANSWER_1_1.format(relates=number[1], xaddrs="").encode())
            for kind, match in ((Kind.HELLO, hello), (Kind.HELLO, bye), (Kind.BYE, bye)):
                group = (ws_discovery.MULTICAST_ADDRESS, ws_discovery.PORT)
                there.sender.sendto(ws_discovery.serialize_announcement(kind, match, "urn:uuid:h"), group)
        elif "2009/01/Resolve<" in text and "urn:uuid:98190dc2" in text:
            resolved = ANSWER_1_1.replace("ProbeMatch", "ResolveMatch")
            out.append(resolved.format(relates=number[1], xaddrs=XADDRS).encode())
        return out

    with responder(ws_discovery.MULTICAST_ADDRESS, ws_discovery.PORT, answer) as there:
        heard = asyncio.run(probe([LO], wait_s=0.4))
    assert [(m.endpoint, m.xaddrs, host) for m, host in heard.answers] == [
        ("urn:uuid:98190dc2", ("http://127.0.71.40/onvif/device_service",), "127.0.71.40")
    ]
    assert [m.endpoint for m, _ in heard.hellos] == ["urn:uuid:new"]
    assert asyncio.run(probe_directly(["127.0.71.41"], 0.2)) == []


def test_devices_that_answer_alone_say_that_multicast_does_not_get_through() -> None:
    search = Search(Choice((ETH,), ""), (), (80,), True, 1.0, None)
    alone = [found(f"127.0.71.{n}", method=way) for n, way in ((1, "directed probe + sweep"), (2, "sweep"))]
    assert "multicast does not get through" in discovering._unheard(search, alone)[0]
    assert not discovering._unheard(search, [*alone, found("127.0.71.3", method="probe + sweep")])
    assert not discovering._unheard(search, alone[:1]), "one may be of those that answer no multicast"


def test_an_ssdp_device_is_asked_itself_whatever_host_it_names() -> None:
    pages: list[str] = []

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        pages.append((await reader.readline()).decode().split()[1])
        body = b"<root><device><manufacturer>Quill</manufacturer><modelName>P9</modelName></device></root>"
        writer.write(b"HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%s" % (len(body), body))
        await writer.drain()
        writer.close()

    async def run() -> list[upnp.Seen]:
        server = await asyncio.start_server(serve, "127.0.71.40", 0)
        port = server.sockets[0].getsockname()[1]
        location = f"http://203.0.113.7:{port}/d.xml"  # another host: only the one that answered is asked
        told = f"HTTP/1.1 200 OK\r\nLOCATION: {location}\r\nUSN: uuid:1::x\r\nSERVER: s\r\n\r\n".encode()
        with responder(ssdp.MULTICAST_ADDRESS, ssdp.PORT, lambda data: [told] if data.startswith(b"M-SEARCH") else []):
            seen = await upnp.search([LO], 1.0)
        server.close()
        return seen

    (seen,) = asyncio.run(run())
    assert seen.host == "127.0.71.40" and seen.description is not None and seen.description.maker == "Quill"
    assert pages == ["/d.xml"], "its repeated answers count once"


def test_a_service_of_a_real_dns_sd_responder_is_seen() -> None:
    from zeroconf import IPVersion, ServiceInfo
    from zeroconf.asyncio import AsyncZeroconf

    async def run() -> list[service_browser.Service]:
        announcing = AsyncZeroconf(interfaces=["127.0.0.1"], ip_version=IPVersion.V4Only)
        info = ServiceInfo(
            "_rtsp._tcp.local.", "Gate 3._rtsp._tcp.local.", addresses=[socket.inet_aton("127.0.71.40")], port=8554,
            server="gate-3.local.",
        )  # fmt: skip
        await announcing.async_register_service(info)
        try:
            return await service_browser.browse([LO], 1.0)
        finally:
            await announcing.async_close()

    assert service_browser.Service("127.0.71.40", 8554, "Gate 3", "_rtsp._tcp.local.") in asyncio.run(run())


def test_what_a_web_server_shows() -> None:
    async def run() -> object:
        async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            await reader.readline()
            body = b"<html><head><title> Office\n printer &amp; fax</title></head></html>"
            writer.write(b"HTTP/1.0 200 OK\r\nServer: quill/9\x1b[2J\r\n\r\n" + body)
            await writer.drain()
            writer.close()

        server = await asyncio.start_server(serve, "127.0.71.40", 0)
        url = f"http://127.0.71.40:{server.sockets[0].getsockname()[1]}/onvif/device_service"
        page = await web_page(url)
        server.close()
        return page

    page = asyncio.run(run())
    told = str(page)
    assert '"Office printer & fax"' in told and "\x1b" not in told
    assert asyncio.run(web_page("http://127.0.71.41:9/")) is None


# Which one it is


def test_seen_by_several_ways_is_one_row_that_says_by_which() -> None:
    seen = [
        Sighting("127.0.71.11", "probe", "urn:1", ("http://127.0.71.11/onvif/device_service",), label="north"),
        Sighting("fe80::1%eth0", "probe", "urn:1", ("http://[fe80::1]/onvif/device_service",)),
        Sighting("127.0.71.11", "dns-sd", ports=(8554,), announced="Gate 3", certain=False),
        Sighting("127.0.71.11", "sweep", ports=(80, 8554), macs=(NORTH_MAC,)),
        Sighting("127.0.71.12", "sweep", macs=("02:5a:71:00:00:12",), certain=False),  # answers ARP and nothing else
    ]
    (device,) = merge(seen)
    assert device.method == "probe + dns-sd + sweep" and device.announced == "Gate 3" and device.label == "north"
    assert device.also_at == ("fe80::1%eth0",) and device.identity.macs == {NORTH_MAC}


def test_what_a_device_announces_reaches_its_row_and_is_trusted_with_nothing(plan: Plan) -> None:
    """SSDP's maker, model and serial number; and a port that DNS-SD names as RTSP, which is no place for ONVIF."""
    upnp_told = {"maker": "Pallas Yard", "model": "Larch 2", "serial": "S-77123"}
    ssdp_seen = Sighting("10.0.0.9", "ssdp", announced="x", certain=False, **upnp_told)  # type: ignore[arg-type]
    service = Sighting("10.0.0.9", "dns-sd", ports=(10554,), announced="Gate", certain=False, rtsp_ports=(10554,))
    (device,) = merge([ssdp_seen, service])
    assert (device.maker, device.model, device.announced_serial) == ("Pallas Yard", "Larch 2", "S-77123")
    assert (device.url, device.rtsp_port) == ("", 10554) and not device.identity.serial
    north = plan.cameras[0].model_copy(update={"mac": None, "address": None, "serial": "s-77123"})
    labelled = plan.model_copy(update={"cameras": (north, *plan.cameras[1:])})
    assert match_devices(labelled, [], [device]).name_of(device) == "north"


def test_a_device_is_known_by_its_label_and_never_by_guess(plan: Plan) -> None:
    """Last digits, serial number and its own name each tell one row; what could be two is open, with its candidates."""
    rows = {c.name: c for c in plan.cameras}
    north = rows["north"].model_copy(update={"mac": None, "mac_end": "000033", "address": None})
    south = rows["south"].model_copy(update={"serial": "PY-77", "address": None, "type": "larch-2"})
    labelled = plan.model_copy(update={"cameras": (north, south)})
    by_end, by_serial = found("127.0.71.25", "02:5a:71:00:00:33"), found("127.0.71.26", serial="py-77")
    assert match_devices(labelled, [], [by_serial, by_end]).by_name == {"north": by_end, "south": by_serial}
    twins = [by_end, found("127.0.71.27", "02:5a:72:00:00:33")]
    twin_match = match_devices(labelled, [], twins)
    assert "north" not in twin_match.by_name and candidates(labelled, twin_match)["north"] == twins
    named = found("127.0.71.28", label="south")
    assert match_devices(labelled, [], [named]).by_name == {"south": named}
    other = found("127.0.71.29", maker="Umbra Works", model="Vesper D4")
    assert not candidates(labelled, match_devices(labelled, [], [other])), "of another make"


def test_the_likeliest_cause_is_told_by_what_was_seen_instead(plan: Plan) -> None:
    rows = planned_devices(plan)
    evidence = Evidence((ETH,), by_arp=frozenset({"127.0.71.11", "127.0.71.12"}))

    def why(name: str, evidence: Evidence, *others: FoundDevice, **named: FoundDevice) -> tuple[str, str]:
        cause = why_missing(plan, rows[name], evidence, named, others)
        assert cause is not None
        return cause.seen, cause.do

    silent = why("north", evidence)
    assert (
        "no ARP answer" in silent[0]
        and "anything else of zone cameras" in silent[0]
        and "port that the laptop" in silent[1]
    )
    seen, do = why("north", evidence, south=found("127.0.71.12"))
    assert "others at switch cabinet answer" in seen and "PoE" in do
    assert (
        "answers ARP, but has none" in why("south", replace(evidence, macs={"127.0.71.12": ("02:5a:71:00:00:12",)}))[0]
    )
    impostor = replace(evidence, macs={"127.0.71.11": ("02:5a:71:00:00:99",)})
    assert "another device answers ARP" in why("north", impostor)[0]
    assert "refuses" in why("south", replace(evidence, refused=frozenset({"127.0.71.12"})))[0]
    assert (
        "another device is on its address: Pallas Yard"
        in why("south", evidence, found("127.0.71.12", "02:5a:71:00:00:99"))[0]
    )
    away = Evidence((Adapter("eth0", "10.9.0.5", ipaddress.IPv4Network("10.9.0.0/24")),))
    seen, do = why("south", away)
    assert "no address in zone cameras" in seen and "ip address add 127.0.71.30/27 dev eth0" in do
    assert "only recorder sees it" in why("south", replace(away, behind={"recorder": {"127.0.71.12"}}))[0]
    shared = plan.zones[0].model_copy(update={"name": "recording", "vlan": 72})
    private = plan.zones[0].model_copy(update={"primary": "recording"})
    recorder = plan.recorders[0].model_copy(update={"zone": "recording"})
    shut_in = Plan(**{**dict(plan), "zones": (private, shared), "recorders": (recorder,)})
    told = why_missing(shut_in, rows["north"], evidence, {"recorder": found("127.0.71.21")}, ())
    assert told is not None and "from an isolated port" in told.seen and "a port of zone recording" in told.do
    both = {"recorder": found("127.0.71.21"), "south": found("127.0.71.12")}
    told = why_missing(shut_in, rows["north"], evidence, both, ())
    assert told is not None and "others at switch cabinet answer" in told.seen, (
        "a camera that answers says it is not that"
    )
    zone = ipaddress.IPv4Network("10.20.0.0/16")
    assert add_address_command("en0", "10.20.0.9", zone, "darwin") == "sudo ifconfig en0 alias 10.20.0.9 255.255.0.0"
    assert "netsh interface ipv4 add address" in add_address_command("Ethernet", "10.20.0.9", zone, "win32")


def test_paths_to_try(tmp_path: Path) -> None:
    assert list(sub_paths("/stream1"))[:2] == ["/stream2", "/stream0"]
    assert list(sub_paths("/ch01/main")) == ["/ch02/main", "/ch00/main", "/ch01/sub"]
    (tmp_path / "paths.txt").write_text("# the old encoder\n/analogue/{n}\n")
    assert path_patterns(tmp_path)[0] == "/analogue/{n}" and "/live" in path_patterns(tmp_path)


# The commands


@pytest.mark.usefixtures("stand_in")
def test_streams_are_listed_kept_and_used(ready_site: Path) -> None:
    """An RTSP-only camera whose path nobody knows: looked for, found with its sub stream, and measured by it."""
    types = (
        (ready_site / "types.toml").read_text().replace('model = "Vesper D4"\n', 'model = "Vesper D4"\nonvif = false\n')
    )
    (ready_site / "types.toml").write_text(types)
    (ready_site / "paths.txt").write_text("/live/main\n")
    shown = zentrale("discover", "--streams", "--json", cwd=ready_site)
    streams = {s["planned_as"]: s["streams"] for s in shown.json["streams"]}
    assert [s["url"] for s in streams["north"]] == [f"rtsp://127.0.71.11:8554/live/{s}" for s in ("main", "sub")]
    assert (streams["north"][0]["codec"], streams["north"][0]["fps"]) == ("H264", 5)
    assert [s["url"] for s in streams["south"]] == [f"rtsp://127.0.71.12:8554/live/{s}" for s in ("main", "sub")]
    told = measured("--only", "south", "--seconds", "1", "--json", cwd=ready_site).json
    assert {s["stream"]: s["verdict"] != "not_reached" for s in told["streams"]} == {"main": True, "sub": True}
    assert zentrale("assign", "south", "rtsp://127.0.71.12:8554/live/sub", cwd=ready_site).code == 0
    refused = zentrale("assign", "south", "rtsp://a:b@127.0.71.12/x", cwd=ready_site)
    assert refused.code == 2 and "passwords are in the vault" in refused.err
    assert zentrale("assign", "north", "rtsp://127.0.71.11/x", cwd=ready_site).code == 2, "it speaks ONVIF"
    (ready_site / "paths.txt").write_text("live\n")
    assert "paths.txt line 1" in zentrale("discover", "--streams", cwd=ready_site).err


@pytest.mark.usefixtures("stand_in")
def test_open_ones_are_walked_through_with_pictures(ready_site: Path) -> None:
    cameras = (
        CAMERAS.replace("127.0.71.11,02:5a:71:00:00:11", ",").replace("larch-2", "vesper-d4").replace("127.0.71.12", "")
    )
    (ready_site / "cameras.csv").write_text(cameras)
    found_ = zentrale("discover", cwd=ready_site)
    assert "Open: which is which?" in found_.out and "assign --walk" in found_.err
    walked = walk(ready_site, "x\n2\n")
    assert walked.code == 0 and "2  south, south door" in walked.out, walked.all
    assert "'x' is none of them: type 1 to 2, a name, or s to skip" in walked.err
    assert "south is the device at 127.0.71.12" in walked.out
    picture = ready_site / "output" / "walk" / "127.0.71.12.jpg"
    assert picture.read_bytes()[:2] == b"\xff\xd8" and str(picture) in walked.out.replace("\n", "")
    assert "which is it?" in walked.err and walked.err.count("which is it?") == 2, (
        "what is not understood is asked again"
    )
    again = zentrale("discover", "--json", cwd=ready_site)
    assert {d["address"]: d["planned_as"] for d in again.json["devices"]}["127.0.71.12"] == "south"
    assert zentrale("assign", "--walk", "south", cwd=ready_site).code == 2
    assert zentrale("assign", "south", "--remove", cwd=ready_site).code == 0
    (ready_site / "cameras.csv").write_text(
        CAMERAS.replace("127.0.71.11,02:5a:71:00:00:11", ",").replace("127.0.71.12", "")
    )
    (missing,) = [
        f for f in zentrale("discover", "south", "--json", cwd=ready_site).json["findings"] if f["code"] == "DIS-1"
    ]
    assert (
        missing["subject"] == "camera south"
        and "127.0.71.12" in missing["measured"]
        and "may be it" in missing["measured"]
    )
    back = walk(ready_site, "1\nb\n1\n1\n")
    assert back.code == 0 and back.out.count("north is the device at 127.0.71.11") == 2, back.all
    assert "north is open again" in back.out and "south is the device at 127.0.71.12" in back.out


def walk(site: Path, keys: str) -> Result:
    done = subprocess.run(
        [PROGRAM, "assign", "--walk"], cwd=site, env=environment(), input=keys, text=True, capture_output=True, check=False,
        timeout=60,
    )  # fmt: skip
    return Result(done.returncode, done.stdout, done.stderr)


def test_a_camera_is_replaced_and_removed(ready_site: Path, start_stand_in: StartStandIn, tmp_path: Path) -> None:
    """The new one takes over place, channel and name; the old one's password is kept; who goes leaves its channel free."""
    start_stand_in(DATA / "small.toml")
    assert zentrale("discover", cwd=ready_site).code == 1
    assert zentrale("register", cwd=ready_site).code in (0, 1)
    new = (DATA / "small.toml").read_text().replace("02:5a:71:00:00:11", "02:5a:71:00:0a:bc").replace('"T-1"', '"T-9"')
    new = new.replace("127.0.71.11", "127.0.71.15")
    (tmp_path / "new.toml").write_text(new)
    start_stand_in(tmp_path / "new.toml")
    found_ = zentrale("discover", "--json", cwd=ready_site)
    assert "north" in found_.json["missing"] and found_.json["may_be"] == {}, "its row names another MAC address"
    assert "only ports 8080, 8554 were tried, as site.toml [policy] sweep_ports has them" in found_.json["remarks"]
    (missing,) = [f for f in found_.json["findings"] if f["code"] == "DIS-1"]
    assert "`zentrale replace north --with 127.0.71.15`" in missing["advice"]
    assert zentrale("replace", "north", "--with", "0bbb", cwd=ready_site).code == 2
    assert zentrale("replace", "north", "--with", "127.0.71.21", cwd=ready_site).code == 2, "that is the recorder"
    cameras = CAMERAS.replace("larch-2", "vesper-d4")
    (ready_site / "cameras.csv").write_text(cameras)
    done = zentrale("replace", "north", "--with", "00:0a:bc", cwd=ready_site)
    assert done.code == 0 and "02:5a:71:00:0a:bc at 127.0.71.15" in " ".join(done.out.split()), done.all
    assert "WARNING it is Pallas Yard Larch 2; planned is Umbra Works Vesper D4" in " ".join(done.out.split()), done.out
    kept = cameras.replace("02:5a:71:00:00:11", "02:5a:71:00:0a:bc")
    assert (ready_site / "cameras.csv").read_text() == kept, "its columns are as they were"
    assert "its password stays" not in done.out and "north before" in done.out
    assert "north" not in zentrale("discover", "--json", cwd=ready_site).json["missing"]
    with Logbook(ready_site / "logbook.sqlite") as logbook:
        assert [c.step for c in logbook.changes() if c.ref.name == "north"][-1:] == ["device"] or any(
            c.step == "device" for c in logbook.changes()
        )
    gone = zentrale("remove", "north", cwd=ready_site)
    assert gone.code == 0 and "channel 1 of recorder" in gone.out, gone.all
    assert "north" not in (ready_site / "cameras.csv").read_text()
    assert zentrale("remove", "south", cwd=ready_site).code == 2, "the last one"
    assert b"factory-1234" not in everything_below(ready_site)


@pytest.mark.usefixtures("stand_in")
def test_several_sites_are_one_table(ready_site: Path, tmp_path: Path) -> None:
    other = make_site(
        tmp_path / "other", SITE.replace("Small site", "Other site"), CAMERAS.replace("127.0.71.12", "127.0.71.14")
    )
    make_vault(other)
    shown = zentrale("discover", "--site", str(ready_site), "--site", str(other), "--no-probe", cwd=tmp_path)
    assert shown.code == 1 and "found at 2 sites" in shown.out, shown.all
    assert re.search(r"Small site\s+3 of 3", shown.out) and re.search(r"Other site\s+2 of 3", shown.out), shown.out
    told = zentrale("discover", "--site", str(ready_site), "--site", str(other), "--no-probe", "--json", cwd=tmp_path)
    assert [s["site"] for s in told.json["sites"]] == ["Small site", "Other site"]
    one = zentrale("register", "--site", str(ready_site), "--site", str(other), cwd=tmp_path)
    assert one.code == 2 and "--site: given twice; this command works on one site" in one.err
    taken = zentrale("assign", "north", "127.0.71.12", cwd=ready_site)
    assert taken.code == 2 and "127.0.71.12 is recognised as south, not north" in taken.err
    assert zentrale("assign", "north", "127.0.71.12", "--yes", cwd=ready_site).code == 0


def test_who_plugs_one_in_sees_its_name(ready_site: Path, start_stand_in: StartStandIn) -> None:
    following = subprocess.Popen(
        [PROGRAM, "discover", "--follow", "--adapter", "lo"], cwd=ready_site, env=environment(), text=True,
        stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    assert following.stdout is not None
    try:
        time.sleep(1.5)
        start_stand_in(DATA / "small.toml")
        lines = [following.stdout.readline() for _ in range(2)]
        assert {re.sub(r"^\S+  ", "", line).split("  ")[1].strip() for line in lines} == {"north", "recorder"}, lines
        assert all(line.split("  ")[1] == "+" for line in lines) and "fresh" in "".join(lines)
    finally:
        following.send_signal(signal.SIGINT)
        following.communicate(timeout=20)
    assert following.returncode == 0


QUIRKS = {
    "typed": 'probes = "typed"', "newer": 'discovery = "1.1"', "shy": "tells_address = false", "tls": "https_only = true",
    "directed": 'probes = "directed"', "chunked": "chunked = true\nanswer_after_s = 0.3",
    "digest": 'authentication = ["digest"]\nfault_text = "Keine Berechtigung"', "token": 'authentication = ["token"]',
    "legs": 'other_macs = ["02:5a:71:00:0b:0b"]', "upnp": "ssdp = true\ndns_sd = true",
}  # fmt: skip


def test_devices_of_other_habits_are_found_and_entered(
    ready_site: Path, start_stand_in: StartStandIn, tmp_path: Path
) -> None:
    """Each found by the way it leaves, each entered with our password; a recorder's own camera is told of by the recorder."""
    picture = 'main = { resolution = "160x96", fps = 5, bitrate_kbps = 64, govlength = 5 }\n'
    parts = ['name = "Habits"\n']
    for number, (name, quirk) in enumerate(QUIRKS.items(), start=1):
        parts.append(
            f'[[cameras]]\nname = "{name}"\nscene = "north"\naddress = "127.0.71.{number}"\nmaker = "Pallas Yard"\n'
            f'model = "Larch 2"\nfirmware = "1"\nserial = "Q-{number}00"\nmac = "02:5a:71:00:0a:{number:02x}"\n'
            f'accounts = [{{ user = "admin", password = "installer-1" }}]\n{picture}{picture.replace("main", "sub")}'
            f"[cameras.quirks]\n{quirk}\n"
        )  # fmt: skip
    recorder = (DATA / "small.toml").read_text().partition("[[recorders]]")[2]
    behind = '\nbehind = [{ name = "south", channel = 3, address = "192.168.254.3" }]\n'
    (tmp_path / "habits.toml").write_text("".join(parts) + "[[recorders]]" + recorder + behind)
    start_stand_in(tmp_path / "habits.toml")
    rows = [
        f"{name},x,larch-2,all,{zone},cabinet,{number},20,{address},,recorder,{number}"
        for name, zone, number, address in (
            ("typed", "cameras", 1, "127.0.71.1"), ("newer", "cameras", 2, "127.0.71.2"),
            ("south", "private", 3, "192.168.254.3"),
        )
    ]  # fmt: skip
    (ready_site / "cameras.csv").write_text("\n".join([CAMERAS.splitlines()[0], *rows]) + "\n")
    zones = '[[zones]]\nname = "private"\nvlan = 72\nsubnet = "192.168.254.0/24"\n[[groups]]'
    (ready_site / "site.toml").write_text((ready_site / "site.toml").read_text().replace("[[groups]]", zones, 1))
    shown = zentrale("discover", "--range", "127.0.71.1-10", "--json", cwd=ready_site)
    devices = {d["address"]: d for d in shown.json["devices"]}
    at = {name: devices.get(f"127.0.71.{number}") for number, name in enumerate(QUIRKS, start=1)}
    assert {name: device and device["state"] for name, device in at.items()} == dict.fromkeys(
        QUIRKS, "known password"
    ), shown.all
    ways = {name: device["method"].split(" + ") for name, device in at.items() if device}
    assert all("probe" in ways[name] for name in ("typed", "newer", "shy", "tls", "legs")) and set(
        ways["directed"]
    ) == {"directed probe", "sweep"}
    assert {"ssdp", "dns-sd"} <= set(ways["upnp"]) and "Larch 2" in (at["upnp"] or {})["announced"]
    assert (at["tls"] or {})["url"].startswith("https://") and "02:5a:71:00:0b:0b" in (at["legs"] or {})["macs"]
    (missing,) = [f for f in shown.json["findings"] if f["subject"] == "camera south"]
    assert missing["code"] == "DIS-11" and "only recorder sees it" in missing["measured"], missing


def test_one_that_locks_is_left_alone(ready_site: Path, start_stand_in: StartStandIn, tmp_path: Path) -> None:
    scenario = (DATA / "small.toml").read_text().replace("answers_probes = false\n", "")
    scenario = scenario.replace('"factory-1234" }]', '"another-1" }]\nquirks = { locks_after = 2 }')
    (tmp_path / "locks.toml").write_text(scenario)
    start_stand_in(tmp_path / "locks.toml")
    first = zentrale("discover", "--json", cwd=ready_site)
    second = zentrale("discover", "--json", cwd=ready_site)
    states = [{d["planned_as"]: d["state"] for d in shown.json["devices"]}["south"] for shown in (first, second)]
    assert states[1] in ("says it is locked", "password not known yet", "password unknown")
    assert {d["planned_as"]: d["state"] for d in second.json["devices"]}["recorder"] == "known password"


@pytest.fixture
def two_on_one_address() -> Iterator[Adapter]:
    """Two machines of their own with the same address on one link with us, as fresh cameras come."""
    tool = shutil.which("ip")
    if not OWN_NETWORK or tool is None or not arp.allowed():
        pytest.skip("needs a network of its own, and iproute2")
    sleeping = [subprocess.Popen(["unshare", "--net", "sleep", "60"]) for _ in range(2)]
    time.sleep(0.3)
    try:
        lines = ["link add name link0 type bridge", "link set link0 up", "addr add 10.71.0.1/24 brd + dev link0"]
        for number, machine in enumerate(sleeping):
            lines += [f"link add name far{number} type veth peer name near{number}", f"link set near{number} master link0 up",
                      f"link set far{number} address 02:5a:71:00:0c:{number:02x} netns {machine.pid}"]  # fmt: skip
        for line in lines:
            subprocess.run([tool, *line.split()], check=True)
        for number, machine in enumerate(sleeping):
            for line in (f"addr add 10.71.0.64/24 dev far{number}", f"link set far{number} up"):
                subprocess.run(["nsenter", "-t", str(machine.pid), "-n", tool, *line.split()], check=True)
        time.sleep(1.5)
        yield Adapter("link0", "10.71.0.1", ipaddress.IPv4Network("10.71.0.0/24"))
    finally:
        for machine in sleeping:
            machine.kill()
            machine.wait()
        subprocess.run([tool, "link", "delete", "link0"], check=False)


def test_two_devices_on_one_address_are_told(two_on_one_address: Adapter, ready_site: Path) -> None:
    told = arp.who_is_there(two_on_one_address, ["10.71.0.64", "10.71.0.65"])
    assert told is not None and {a: set(macs) for a, macs in told.items()} == {
        "10.71.0.64": {"02:5a:71:00:0c:00", "02:5a:71:00:0c:01"}
    }
    site = (
        (ready_site / "site.toml")
        .read_text()
        .replace("127.0.71.0/27", "10.71.0.0/24")
        .replace("127.0.71.21", "10.71.0.21")
    )
    (ready_site / "site.toml").write_text(site)
    cameras = CAMERAS.replace("127.0.71.11,02:5a:71:00:00:11", "10.71.0.64,02:5a:71:00:0c:00").replace(
        "127.0.71.12", "10.71.0.65"
    )
    (ready_site / "cameras.csv").write_text(cameras)
    shown = zentrale("discover", "--json", "--wait", "0.2", cwd=ready_site)
    findings = {f["subject"]: f["measured"] for f in shown.json["findings"]}
    assert shown.json["adapters"] == [{"name": "link0", "address": "10.71.0.1"}]
    assert "2 devices answer ARP for its address" in findings["camera north"], shown.all
    assert "no ARP answer" in findings["camera south"]


def test_a_real_ssdp_responder_is_seen() -> None:
    from ssdpy import SSDPServer  # type: ignore[import-untyped]  # the package tells no types

    server = SSDPServer("uuid:77::upnp:rootdevice", device_type="upnp:rootdevice", location="http://127.0.0.1:9/d.xml",
                        address="127.0.0.1")  # fmt: skip
    serving = threading.Thread(target=server.serve_forever, daemon=True)
    serving.start()
    try:
        (seen,) = asyncio.run(upnp.search([LO], 1.0))
    finally:
        server.stopped = True
        asyncio.run(upnp.search([LO], 0.1))  # it looks at that once it has heard something
        serving.join(10)
        assert not serving.is_alive(), "else it answers the next test's searches too"
    assert (seen.host, seen.told.uuid, seen.port, seen.description) == ("127.0.0.1", "uuid:77", 9, None)


def test_what_is_sent_as_a_packet_tool_sees_it() -> None:
    """SOAP-over-UDP 1.1 appendix A: each multicast message goes out again after 50 to 250 ms, then after twice that."""
    tool = shutil.which("tcpdump")
    if tool is None or not OWN_NETWORK or not arp.allowed():
        pytest.skip("needs tcpdump, and a network of its own")
    listening = subprocess.Popen(
        [tool, "-Z", "root", "-tt", "-l", "-ni", "lo", "udp", "port", "3702", "and", "ip", "multicast"], text=True,
        stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip
    assert listening.stderr is not None
    while "listening on" not in listening.stderr.readline():
        pass
    asyncio.run(probe([LO], wait_s=0.2))
    time.sleep(0.3)
    listening.terminate()
    seen = re.findall(
        r"^(\d+\.\d+) IP (\S+) > 239\.255\.255\.250\.3702: UDP, length (\d+)", listening.communicate()[0], re.M
    )
    by_length: dict[str, list[float]] = {}
    for at, _, length in seen:
        by_length.setdefault(length, []).append(float(at))
    assert sorted(map(len, by_length.values())) == [3, 3, 3], "typed, untyped, and the newer version, three times each"
    for first, second, third in by_length.values():
        assert 0.049 < second - first < 0.35 and 1.4 < (third - second) / (second - first) < 2.6
