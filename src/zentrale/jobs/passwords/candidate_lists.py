"""A list of candidate passwords as people have it: lines of text, a CSV file, a column of a spreadsheet.

Cells are taken as they are, blanks within them too. No password is in any message.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from pathlib import Path

from zentrale.errors import InputError
from zentrale.logbook.vault_contents import Candidate
from zentrale.protocols.http_auth import Credentials
from zentrale.site.tables import decode, file_bytes, guess_separator, read_sheet

_TITLES = {
    "password": ("password", "pass", "passwd", "pwd", "pw", "passwort", "kennwort", "passphrase"),
    "user": ("user", "username", "user name", "login", "account", "benutzer"),
    "label": ("label", "name", "device", "camera", "where", "note", "comment"),
}
_MAX_BYTES = 4 * 1024 * 1024
_MOST = 1000


def read_candidates(path: Path, user: str | None, column: str | None, factory_of: str = "") -> list[Candidate]:
    """Those of the file, each once. Raises InputError where it is no such list.

    user: the account where the file names none; column: the title above the passwords, where it is not a usual one
    """
    rows = _rows(path, table=column is not None)
    titles = [cell.strip().lower() for cell in rows[0]] if rows else []
    at = {what: next((i for i, t in enumerate(titles) if t in words), None) for what, words in _TITLES.items()}
    if column is not None:
        if column.strip().lower() not in titles:
            # The first row is not shown: where it is no header, it holds a password.
            raise InputError(f"{path}: has no column {column!r}", "expected a title as it stands in the first row")
        at["password"] = titles.index(column.strip().lower())
    body = list(enumerate(rows, start=1))
    if at["password"] is not None:
        body = body[1:]
    elif any(len([c for c in row if c]) > 1 for row in rows):
        raise InputError(f"{path}: has several columns, and none is called password", "name it with --column TITLE")
    found: dict[Credentials, Candidate] = {}
    for number, row in body:
        password = _cell(row, at["password"] or 0)
        account = _cell(row, at["user"]).strip() or user or ""
        if not password:
            continue
        if not account:
            raise InputError(
                f"{path} row {number}: no account is named", "give it: `zentrale vault add USER --from FILE`"
            )
        label = _cell(row, at["label"]).strip()
        name = f"{label} ({path.name} row {number})" if label else f"{path.name} row {number}"
        credentials = Credentials(account, password)
        found.setdefault(credentials, Candidate(credentials, name, factory_of))
    if not found:
        raise InputError(f"{path}: holds no password", "expected one on each line, or a column called password")
    if len(found) > _MOST:
        raise InputError(
            f"{path}: {len(found)} passwords", f"expected at most {_MOST}: devices lock after a few wrong ones"
        )
    return list(found.values())


def _cell(row: Sequence[str], at: int | None) -> str:
    return row[at] if at is not None and at < len(row) else ""


def _rows(path: Path, *, table: bool) -> list[list[str]]:
    data = file_bytes(path, _MAX_BYTES, "a list of passwords")
    if data[:4] == b"PK\x03\x04":
        return [list(row.cells) for row in read_sheet(path, data) if row.filled]
    lines = [line for line in decode(data).splitlines() if line.strip()]
    head = lines[0] if lines else ""
    separator = guess_separator(lines[:50])
    titles = [cell.strip().lower() for cell in next(csv.reader([head], delimiter=separator), [])]
    titled = len(titles) > 1 and any(title in _TITLES["password"] + _TITLES["user"] for title in titles)
    if table or titled:
        return [row for row in csv.reader(io.StringIO("\n".join(lines)), delimiter=separator) if any(row)]
    return [[line] for line in lines]  # a password may hold commas and quotes
