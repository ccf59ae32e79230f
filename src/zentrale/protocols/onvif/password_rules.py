"""What a device asks of passwords (ONVIF Core): GetPasswordComplexityConfiguration, and the security capabilities."""

from __future__ import annotations

from dataclasses import dataclass

from zentrale.protocols import xml
from zentrale.protocols.soap import NS, TDS
from zentrale.protocols.xml import Element


@dataclass(frozen=True)
class PasswordRules:
    """Lengths in characters, 0 where they are not told; how many capital letters, digits and signs at least."""

    shortest: int = 0
    longest: int = 0
    capitals: int = 0
    digits: int = 0
    signs: int = 0


def get_complexity() -> Element:
    return TDS.GetPasswordComplexityConfiguration()


def get_capabilities() -> Element:
    return TDS.GetServiceCapabilities()


def parse_complexity(response: Element) -> PasswordRules:
    return PasswordRules(
        _count(response, "MinLen"), 0, _count(response, "Uppercase"), _count(response, "Number"),
        _count(response, "SpecialChars"),
    )  # fmt: skip


def parse_longest(response: Element) -> int:
    """MaxPasswordLength of the security capabilities; 0 where it is not told."""
    return _of_security(response, "MaxPasswordLength")


def parse_most_users(response: Element) -> int:
    """MaxUsers of the security capabilities; 0 where it is not told."""
    return _of_security(response, "MaxUsers")


def complexity_response(rules: PasswordRules) -> Element:
    parts = {
        "MinLen": rules.shortest, "Uppercase": rules.capitals, "Number": rules.digits, "SpecialChars": rules.signs,
    }  # fmt: skip
    return TDS.GetPasswordComplexityConfigurationResponse(*(TDS(name, str(n)) for name, n in parts.items()))


def capabilities_response(longest: int) -> Element:
    security = TDS.Security(**({"MaxPasswordLength": str(longest)} if longest else {}))
    return TDS.GetServiceCapabilitiesResponse(TDS.Capabilities(TDS.Network(), security, TDS.System()))


def _of_security(response: Element, name: str) -> int:
    at = response.find("tds:Capabilities/tds:Security", NS)
    return 0 if at is None else round(xml.sensible(at.get(name, "")))


def _count(response: Element, name: str) -> int:
    return min(max(xml.integer(response, f"tds:{name}", NS), 0), 256)
