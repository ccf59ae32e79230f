"""The sealed sheet: all passwords of a site as a PDF document that only its passphrase opens.

AES-256 by ISO 32000-2 (PDF 2.0), which every current PDF viewer opens, and open tools such as
`qpdf --decrypt --password-file=FILE` and `pdftotext -upw`. No unsealed form of it is ever written.
"""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass

from matplotlib.backends.backend_pdf import PdfPages
from matplotlib.figure import Figure
from pypdf import PdfReader, PdfWriter

from zentrale import quantities

_LINES_A_PAGE = 46
_A4_IN = (8.27, 11.69)


@dataclass(frozen=True)
class SecretLine:
    device: str
    user: str
    role: str
    password: str


def sealed_sheet(site: str, customer: str, lines: Sequence[SecretLine], passphrase: str) -> bytes:
    """The sealed document. Raises ValueError for an empty passphrase."""
    if not passphrase:
        raise ValueError("a sealed sheet needs a passphrase")
    plain = io.BytesIO()
    pages = [lines[at : at + _LINES_A_PAGE] for at in range(0, len(lines), _LINES_A_PAGE)] or [[]]
    with PdfPages(plain) as document:
        for number, page in enumerate(pages, start=1):
            document.savefig(_page(site, customer, page, f"page {number} of {len(pages)}"))
    writer = PdfWriter(clone_from=PdfReader(io.BytesIO(plain.getvalue())))
    writer.encrypt(user_password=passphrase, algorithm="AES-256")
    sealed = io.BytesIO()
    writer.write(sealed)
    return sealed.getvalue()


def _page(site: str, customer: str, lines: Sequence[SecretLine], number: str) -> Figure:
    figure = Figure(figsize=_A4_IN)
    made = quantities.to_the_minute(quantities.now())
    figure.text(0.08, 0.955, f"Passwords of {site}", fontsize=14, weight="bold")
    to = f" for {customer}" if customer else ""
    figure.text(0.08, 0.937, f"made {made}{to}, {number}", fontsize=8, color="#4a5a68")
    columns = ((0.08, "device"), (0.38, "account"), (0.56, "may"), (0.72, "password"))
    for x, title in columns:
        figure.text(x, 0.912, title, fontsize=8, color="#4a5a68")
    for row, line in enumerate(lines):
        y = 0.895 - row * 0.0185
        for (x, _), text in zip(columns, (line.device, line.user, line.role, line.password), strict=True):
            family = "monospace" if text == line.password else "sans-serif"
            figure.text(x, y, text, fontsize=9, family=family, parse_math=False)
    return figure
