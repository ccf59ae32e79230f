"""What a web server that is no ONVIF device shows: the title of its page and the name of its software, without credentials."""

from __future__ import annotations

import html
import re
from dataclasses import dataclass
from urllib.parse import urlsplit

from zentrale.errors import ZentraleError
from zentrale.field.http import HttpClient
from zentrale.field.rules import any_certificate
from zentrale.words import clean

_TITLE = re.compile(rb"<title[^>]{0,200}>(.{0,400}?)</title", re.IGNORECASE | re.DOTALL)
_TIMEOUT_S = 4.0
_LOOKED_AT = 64 * 1024


@dataclass(frozen=True)
class WebPage:
    title: str
    server: str
    status: int

    def __str__(self) -> str:
        parts = [f'"{self.title}"' if self.title else "", f"server {self.server}" if self.server else ""]
        return f"a web page ({', '.join(t for t in parts if t) or f'status {self.status}'})"


async def web_page(url: str) -> WebPage | None:
    """The page at the root of this host; None where no web server answers."""
    parts = urlsplit(url)
    try:
        async with HttpClient(any_certificate, _TIMEOUT_S) as client:
            answer = await client.get(f"{parts.scheme}://{parts.netloc}/")
    except ZentraleError:
        return None  # why it did not answer has been told already: it was asked for ONVIF at the same port
    title = _TITLE.search(answer.body[:_LOOKED_AT])
    text = html.unescape(" ".join(title[1].decode("utf-8", "replace").split())) if title else ""
    return WebPage(clean(text, 80), clean(answer.get("server"), 60), answer.status)
