"""The device management service (ONVIF Core specification, Device management)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime

from zentrale.errors import RemoteProtocolError
from zentrale.protocols import xml
from zentrale.protocols.http_auth import Credentials
from zentrale.protocols.soap import NS, TDS, TT
from zentrale.protocols.xml import Element

SERVICE_PATH = "/onvif/device_service"  # where ONVIF Core asks every device to have it
ADMINISTRATOR, OPERATOR, USER = "Administrator", "Operator", "User"
_MAX_ITEMS = 1000


@dataclass(frozen=True)
class DeviceInformation:
    maker: str
    model: str
    firmware: str
    serial: str
    hardware: str = ""


@dataclass(frozen=True)
class Service:
    """`xaddr` is the URL of the service, as the device tells it."""

    namespace: str
    xaddr: str


@dataclass(frozen=True)
class Account:
    user: str
    level: str


@dataclass(frozen=True)
class SystemTime:
    """`utc` is the device's clock; `timezone` a POSIX TZ string; `source` Manual or NTP."""

    utc: datetime
    timezone: str = ""
    source: str = "Manual"
    daylight_savings: bool = False


def ask(name: str) -> Element:
    """A request of the device service that carries nothing, such as GetUsers."""
    return TDS(name)


def get_services() -> Element:
    return TDS.GetServices(TDS.IncludeCapability("false"))


def services_response(services: Iterable[Service]) -> Element:
    return TDS.GetServicesResponse(
        *[
            TDS.Service(TDS.Namespace(s.namespace), TDS.XAddr(s.xaddr), TDS.Version(TT.Major("2"), TT.Minor("60")))
            for s in services
        ]
    )


def parse_services(response: Element) -> list[Service]:
    found = response.findall("tds:Service", NS)[:_MAX_ITEMS]
    return [Service(xml.text(s, "tds:Namespace", NS), xml.text(s, "tds:XAddr", NS)) for s in found]


def parse_capabilities(response: Element) -> list[Service]:
    """GetCapabilities, which devices older than GetServices answer: only media is needed of it."""
    services = []
    for part, prefix in (("Device", "tds"), ("Media", "trt")):
        address = xml.text(response, f"tds:Capabilities/tt:{part}/tt:XAddr", NS)
        if address:
            services.append(Service(NS[prefix], address))
    return services


def capabilities_response(services: Iterable[Service]) -> Element:
    by_namespace = {s.namespace: s.xaddr for s in services}
    parts = [TT.Device(TT.XAddr(by_namespace[NS["tds"]]))]
    if NS["trt"] in by_namespace:
        parts.append(TT.Media(TT.XAddr(by_namespace[NS["trt"]])))
    return TDS.GetCapabilitiesResponse(TDS.Capabilities(*parts))


def information_response(info: DeviceInformation) -> Element:
    return TDS.GetDeviceInformationResponse(
        TDS.Manufacturer(info.maker), TDS.Model(info.model), TDS.FirmwareVersion(info.firmware),
        TDS.SerialNumber(info.serial), TDS.HardwareId(info.hardware),
    )  # fmt: skip


def parse_information(response: Element) -> DeviceInformation:
    def get(name: str) -> str:
        return xml.text(response, f"tds:{name}", NS)[:200]

    return DeviceInformation(
        get("Manufacturer"), get("Model"), get("FirmwareVersion"), get("SerialNumber"), get("HardwareId")
    )


def _date_time(tag: str, moment: datetime) -> Element:
    utc = moment.astimezone(UTC)
    return TT(
        tag,
        TT.Time(TT.Hour(str(utc.hour)), TT.Minute(str(utc.minute)), TT.Second(str(utc.second))),
        TT.Date(TT.Year(str(utc.year)), TT.Month(str(utc.month)), TT.Day(str(utc.day))),
    )


def system_time_response(time: SystemTime) -> Element:
    return TDS.GetSystemDateAndTimeResponse(
        TDS.SystemDateAndTime(
            TT.DateTimeType(time.source),
            TT.DaylightSavings(str(time.daylight_savings).lower()),
            TT.TimeZone(TT.TZ(time.timezone)),
            _date_time("UTCDateTime", time.utc),
        )
    )


def _parse_date_time(element: Element | None) -> datetime:
    try:
        year, month, day = (xml.integer(element, f"tt:Date/tt:{p}", NS) for p in ("Year", "Month", "Day"))
        hour, minute, second = (xml.integer(element, f"tt:Time/tt:{p}", NS) for p in ("Hour", "Minute", "Second"))
        return datetime(year, month, day, hour, minute, min(second, 59), tzinfo=UTC)
    except (ValueError, OverflowError):
        raise RemoteProtocolError("device tells an impossible date and time") from None


def parse_system_time(response: Element) -> SystemTime:
    """Raises RemoteProtocolError where the device tells no UTC time."""
    at = response.find("tds:SystemDateAndTime", NS)
    return SystemTime(
        _parse_date_time(None if at is None else at.find("tt:UTCDateTime", NS)),
        xml.text(at, "tt:TimeZone/tt:TZ", NS),
        xml.text(at, "tt:DateTimeType", NS, "Manual"),
        xml.boolean(at, "tt:DaylightSavings", NS),
    )


def set_system_time(time: SystemTime) -> Element:
    """A device that takes its time from NTP is given no date and time: they are for Manual (clause SetSystemDateAndTime)."""
    parts = [
        TDS.DateTimeType(time.source),
        TDS.DaylightSavings(str(time.daylight_savings).lower()),
        TDS.TimeZone(TT.TZ(time.timezone)),
    ]
    if time.source == "Manual":
        parts.append(_rename(_date_time("UTCDateTime", time.utc)))
    return TDS.SetSystemDateAndTime(*parts)


def _rename(element: Element) -> Element:
    """The same content under the device service's namespace, as SetSystemDateAndTime wants it."""
    return TDS.UTCDateTime(*list(element))


def parse_set_system_time(request: Element, otherwise: datetime) -> SystemTime:
    """`otherwise` is the time where the request holds none."""
    at = request.find("tds:UTCDateTime", NS)
    return SystemTime(
        otherwise if at is None else _parse_date_time(at),
        xml.text(request, "tds:TimeZone/tt:TZ", NS),
        xml.text(request, "tds:DateTimeType", NS, "Manual"),
        xml.boolean(request, "tds:DaylightSavings", NS),
    )


def users_response(accounts: Iterable[Account]) -> Element:
    return TDS.GetUsersResponse(*[TDS.User(TT.Username(a.user), TT.UserLevel(a.level)) for a in accounts])


def parse_users(response: Element) -> list[Account]:
    found = response.findall("tds:User", NS)[:_MAX_ITEMS]
    return [Account(xml.text(u, "tt:Username", NS), xml.text(u, "tt:UserLevel", NS)) for u in found]


def create_users(credentials: Credentials, level: str = ADMINISTRATOR) -> Element:
    return TDS.CreateUsers(_user(credentials, level))


def set_user(credentials: Credentials, level: str = ADMINISTRATOR) -> Element:
    return TDS.SetUser(_user(credentials, level))


def set_level(user: str, level: str) -> Element:
    """SetUser without a password: it stays."""
    return TDS.SetUser(TDS.User(TT.Username(user), TT.UserLevel(level)))


def delete_user(user: str) -> Element:
    return TDS.DeleteUsers(TDS.Username(user))


def _user(credentials: Credentials, level: str) -> Element:
    return TDS.User(TT.Username(credentials.user), TT.Password(credentials.password), TT.UserLevel(level))


def parse_user_requests(request: Element) -> list[tuple[Credentials, str]]:
    """The users in a CreateUsers or SetUser request, each with its level."""
    return [
        (
            Credentials(xml.text(u, "tt:Username", NS), xml.text(u, "tt:Password", NS)),
            xml.text(u, "tt:UserLevel", NS),
        )
        for u in request.findall("tds:User", NS)
    ]


def hostname_response(name: str) -> Element:
    return TDS.GetHostnameResponse(TDS.HostnameInformation(TT.FromDHCP("false"), TT.Name(name)))


def parse_hostname(response: Element) -> str:
    return xml.text(response, "tds:HostnameInformation/tt:Name", NS)[:255]


def set_hostname(name: str) -> Element:
    return TDS.SetHostname(TDS.Name(name))


def scopes_response(fixed: Iterable[str], configurable: Iterable[str]) -> Element:
    pairs = [("Fixed", s) for s in fixed] + [("Configurable", s) for s in configurable]
    return TDS.GetScopesResponse(*[TDS.Scopes(TT.ScopeDef(kind), TT.ScopeItem(item)) for kind, item in pairs])


def parse_scopes(response: Element) -> list[tuple[str, str]]:
    """Pairs of Fixed or Configurable with the scope."""
    found = response.findall("tds:Scopes", NS)[:_MAX_ITEMS]
    return [(xml.text(s, "tt:ScopeDef", NS), xml.text(s, "tt:ScopeItem", NS)) for s in found]


def set_scopes(scopes: Iterable[str]) -> Element:
    """Replaces all configurable scopes."""
    return TDS.SetScopes(*[TDS.Scopes(scope) for scope in scopes])


def parse_set_scopes(request: Element) -> list[str]:
    return [(e.text or "").strip() for e in request.findall("tds:Scopes", NS)]
