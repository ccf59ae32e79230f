"""A device's network settings (ONVIF Core, Device management): interfaces, gateway, name servers, protocols, restart."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from zentrale.protocols import xml
from zentrale.protocols.soap import NS, TDS, TT
from zentrale.protocols.xml import Element

_MAX_ITEMS = 256


@dataclass(frozen=True)
class NetworkInterface:
    """`address` is the IPv4 address it has now, given by hand or by DHCP; `prefix` its length in bits (0: not told)."""

    name: str
    mac: str
    address: str = ""
    prefix: int = 0
    from_dhcp: bool = False
    token: str = ""


def interfaces_response(interfaces: Iterable[NetworkInterface]) -> Element:
    elements = []
    for interface in interfaces:
        tag = "FromDHCP" if interface.from_dhcp else "Manual"
        held = TT(tag, TT.Address(interface.address), TT.PrefixLength(str(interface.prefix or 24)))
        element = TDS.NetworkInterfaces(
            TT.Enabled("true"),
            TT.Info(TT.Name(interface.name), TT.HwAddress(interface.mac), TT.MTU("1500")),
            TT.IPv4(TT.Enabled("true"), TT.Config(held, TT.DHCP(_word(interface.from_dhcp)))),
        )
        element.set("token", interface.token or interface.name)
        elements.append(element)
    return TDS.GetNetworkInterfacesResponse(*elements)


def parse_interfaces(response: Element) -> list[NetworkInterface]:
    interfaces = []
    for element in response.findall("tds:NetworkInterfaces", NS)[:_MAX_ITEMS]:
        config = element.find("tt:IPv4/tt:Config", NS)
        from_dhcp = xml.boolean(config, "tt:DHCP", NS)
        ways = ("FromDHCP", "Manual") if from_dhcp else ("Manual", "FromDHCP")
        way = next((w for w in ways if xml.text(config, f"tt:{w}/tt:Address", NS)), ways[0])
        interfaces.append(
            NetworkInterface(
                xml.text(element, "tt:Info/tt:Name", NS),
                xml.text(element, "tt:Info/tt:HwAddress", NS).lower().replace("-", ":"),
                xml.text(config, f"tt:{way}/tt:Address", NS),
                xml.integer(config, f"tt:{way}/tt:PrefixLength", NS),
                from_dhcp,
                element.get("token", ""),
            )
        )
    return interfaces


def set_interface(token: str, *, from_dhcp: bool, address: str = "", prefix: int = 24) -> Element:
    """SetNetworkInterfaces: IPv4 by DHCP, or one address by hand."""
    by_hand = [] if from_dhcp else [TT.Manual(TT.Address(address), TT.PrefixLength(str(prefix)))]
    ipv4 = TT.IPv4(TT.Enabled("true"), *by_hand, TT.DHCP(_word(from_dhcp)))
    return TDS.SetNetworkInterfaces(TDS.InterfaceToken(token), TDS.NetworkInterface(TT.Enabled("true"), ipv4))


def parse_set_interface(request: Element) -> NetworkInterface:
    """What SetNetworkInterfaces asks for; `name` and `mac` are empty."""
    at = request.find("tds:NetworkInterface/tt:IPv4", NS)
    return NetworkInterface(
        "",
        "",
        xml.text(at, "tt:Manual/tt:Address", NS),
        xml.integer(at, "tt:Manual/tt:PrefixLength", NS),
        xml.boolean(at, "tt:DHCP", NS),
        xml.text(request, "tds:InterfaceToken", NS),
    )


def set_interface_response(*, reboot_needed: bool) -> Element:
    return TDS.SetNetworkInterfacesResponse(TDS.RebootNeeded(_word(reboot_needed)))


def parse_reboot_needed(response: Element) -> bool:
    return xml.boolean(response, "tds:RebootNeeded", NS)


def get_gateway() -> Element:
    return TDS.GetNetworkDefaultGateway()


def get_dns() -> Element:
    return TDS.GetDNS()


def set_gateway(addresses: Iterable[str]) -> Element:
    return TDS.SetNetworkDefaultGateway(*(TDS.IPv4Address(a) for a in addresses))


def parse_gateway(response: Element) -> tuple[str, ...]:
    return _texts(response.find("tds:NetworkGateway", NS), "tt:IPv4Address")


def gateway_response(addresses: Iterable[str]) -> Element:
    return TDS.GetNetworkDefaultGatewayResponse(TDS.NetworkGateway(*(TT.IPv4Address(a) for a in addresses)))


@dataclass(frozen=True)
class NameServers:
    """`servers` are those given by hand."""

    from_dhcp: bool
    servers: tuple[str, ...] = ()


def set_dns(wanted: NameServers) -> Element:
    by_hand = [TDS.DNSManual(TT.Type("IPv4"), TT.IPv4Address(s)) for s in wanted.servers]
    return TDS.SetDNS(TDS.FromDHCP(_word(wanted.from_dhcp)), *by_hand)


def parse_dns(response: Element) -> NameServers:
    at = response.find("tds:DNSInformation", NS)
    return NameServers(xml.boolean(at, "tt:FromDHCP", NS), _texts(at, "tt:DNSManual/tt:IPv4Address"))


def dns_response(servers: NameServers) -> Element:
    by_hand = [TT.DNSManual(TT.Type("IPv4"), TT.IPv4Address(s)) for s in servers.servers]
    return TDS.GetDNSResponse(TDS.DNSInformation(TT.FromDHCP(_word(servers.from_dhcp)), *by_hand))


def parse_set_dns(request: Element) -> NameServers:
    return NameServers(xml.boolean(request, "tds:FromDHCP", NS), _texts(request, "tds:DNSManual/tt:IPv4Address"))


@dataclass(frozen=True)
class NetworkProtocol:
    """One of HTTP, HTTPS and RTSP (tt:NetworkProtocolType), whether it is on, and its ports."""

    name: str
    enabled: bool
    ports: tuple[int, ...]


def get_protocols() -> Element:
    return TDS.GetNetworkProtocols()


def set_protocols(wanted: Iterable[NetworkProtocol]) -> Element:
    return TDS.SetNetworkProtocols(*(_protocol(TDS("NetworkProtocols"), p) for p in wanted))


def protocols_response(protocols: Iterable[NetworkProtocol]) -> Element:
    return TDS.GetNetworkProtocolsResponse(*(_protocol(TDS("NetworkProtocols"), p) for p in protocols))


def parse_protocols(message: Element) -> tuple[NetworkProtocol, ...]:
    """Of the answer, and of the request that sets them: both have the same form."""
    return tuple(
        NetworkProtocol(
            xml.text(e, "tt:Name", NS).upper(),
            xml.boolean(e, "tt:Enabled", NS),
            tuple(int(p) for p in _texts(e, "tt:Port") if p.isdigit() and len(p) < 6),
        )
        for e in message.findall("tds:NetworkProtocols", NS)[:_MAX_ITEMS]
    )


def _protocol(element: Element, protocol: NetworkProtocol) -> Element:
    element.extend(
        [TT.Name(protocol.name), TT.Enabled(_word(protocol.enabled)), *(TT.Port(str(p)) for p in protocol.ports)]
    )
    return element


def reboot() -> Element:
    return TDS.SystemReboot()


def reboot_response() -> Element:
    return TDS.SystemRebootResponse(TDS.Message("restarting"))


def _texts(at: Element | None, path: str) -> tuple[str, ...]:
    found = [] if at is None else at.findall(path, NS)[:_MAX_ITEMS]
    return tuple(t for t in (xml.text(e, ".", NS) for e in found) if t)


def _word(value: bool) -> str:
    return str(value).lower()
