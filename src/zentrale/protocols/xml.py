"""XML from the network: parsed with entities, DTDs and the network off, and bounded in size."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial

from lxml import etree
from lxml.builder import ElementMaker

from zentrale.errors import RemoteProtocolError
from zentrale.words import clean

Element = etree._Element
_TO_SPACES = str.maketrans("\t\r\n", "   ")  # white space separates in lists of scopes and addresses
_SENSIBLE = 1e12  # no count, size or rate in an answer is larger
MAX_BYTES = 2 * 1024 * 1024  # the longest real answers, recorder listings, stay below 500 kB


def parse(data: bytes) -> Element:
    """The root element. Raises RemoteProtocolError on anything malformed, oversized or with a DTD."""
    if len(data) > MAX_BYTES:
        raise RemoteProtocolError(f"XML of more than {MAX_BYTES} bytes")
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, remove_comments=True
    )
    try:
        root = etree.fromstring(data, parser)
    except (etree.XMLSyntaxError, ValueError) as error:
        raise RemoteProtocolError(f"not well-formed XML ({clean(str(error), 80)})") from None
    if root is None or root.getroottree().docinfo.doctype:
        raise RemoteProtocolError("XML with a document type, which no device may send")
    return root


def local_name(element: Element) -> str:
    """{http://...}Mode gives Mode; a comment or an instruction has none."""
    return etree.QName(element).localname if isinstance(element.tag, str) else ""


def safe(text: str) -> str:
    """An attribute's value, without what could harm where it is shown."""
    return clean(text.translate(_TO_SPACES).strip())


class Maker:
    """Makes elements of one namespace: `TT.Name("x")` gives <tt:Name>x</tt:Name>."""

    def __init__(self, namespace: str, prefixes: Mapping[str, str]) -> None:
        self._make = ElementMaker(namespace=namespace, nsmap=dict(prefixes))

    def __call__(self, tag: str, *children: Element | str, **attributes: str) -> Element:
        element: Element = self._make(tag, *children, **attributes)
        return element

    def __getattr__(self, tag: str) -> Callable[..., Element]:
        return partial(self, tag)


def text(parent: Element | None, path: str, namespaces: dict[str, str], default: str = "") -> str:
    """The stripped text of the first element at `path`, or `default`; without what could harm where it is shown."""
    found = None if parent is None else parent.find(path, namespaces)
    return clean((found.text or "").translate(_TO_SPACES).strip()) if found is not None else default


def integer(parent: Element | None, path: str, namespaces: dict[str, str], default: int = 0) -> int:
    """A number, also where a device writes 25.0; `default` where there is none or it is not a number."""
    return round(number(parent, path, namespaces, default))


def boolean(parent: Element | None, path: str, namespaces: dict[str, str]) -> bool:
    """xs:boolean (XML Schema part 2 clause 3.2.2), False where there is none."""
    return true(text(parent, path, namespaces))


def true(text: str) -> bool:
    """Its two spellings, and that of devices which write it with a capital."""
    return text.strip().lower() in ("true", "1")


def number(parent: Element | None, path: str, namespaces: dict[str, str], default: float = 0.0) -> float:
    """A number; `default` where there is none, or none that could be meant."""
    return sensible(text(parent, path, namespaces), default)


def sensible(text: str, default: float = 0.0) -> float:
    """A number as a device writes it; `default` where it is none, or none that could be meant."""
    try:
        value = float(text)
    except ValueError:
        return default
    return value if abs(value) < _SENSIBLE else default  # nan is not less either
