"""Secrets that a command is told: from a file descriptor, the environment, or the keyboard."""

from __future__ import annotations

import argparse
import os
import sys

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Callable

PASSPHRASE_VARIABLE = "ZENTRALE_PASSPHRASE"
PASSWORD_VARIABLE = "ZENTRALE_PASSWORD"


def secret(descriptor: int | None, variable: str, prompt: str, *, twice: bool = False) -> str:
    """A passphrase or password from a descriptor, an environment variable, or the keyboard. Raises InputError."""
    from zentrale.errors import InputError

    if descriptor is not None:
        try:
            with os.fdopen(descriptor, encoding="utf-8") as file:
                text = file.readline().rstrip("\r\n")
        except (OSError, UnicodeDecodeError) as error:
            raise InputError(
                f"file descriptor {descriptor}: cannot be read: {error}", "open it, as in `3<file`"
            ) from None
    elif variable and os.environ.get(variable):
        text = os.environ[variable]
    elif sys.stdin.isatty():
        from getpass import getpass

        text = getpass(f"{prompt}: ")
        if twice and getpass(f"{prompt}, again: ") != text:
            raise InputError("the two did not agree", "type it again; nothing was changed")
    else:
        advice = f"set ${variable}, or give a file descriptor" if variable else "give a file descriptor"
        raise InputError(f"{prompt}: nobody to ask, since this is no terminal", advice)
    if not text:
        raise InputError(f"{prompt}: empty", "give at least one character")
    from zentrale.cli import defects

    defects.know(text)
    return text


def passphrase(args: argparse.Namespace, *, twice: bool = False) -> str:
    return secret(args.passphrase_fd, PASSPHRASE_VARIABLE, "vault passphrase", twice=twice)


def new_passphrase() -> Callable[[], str] | None:
    """Asks for the vault's passphrase after another process changed it; None where nobody sits at a terminal."""
    if not sys.stdin.isatty():
        return None
    return lambda: secret(None, "", "new vault passphrase")
