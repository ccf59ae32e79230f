"""Options that several commands share, and what they stand for: the site, its plan, its vault, its logbook."""

from __future__ import annotations

import argparse
import os
import sys

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from zentrale.logbook.vault import Contents, Vault
    from zentrale.site.folder import SiteFolder

PASSPHRASE_VARIABLE = "ZENTRALE_PASSPHRASE"


def add_common(parser: argparse.ArgumentParser) -> None:
    common = parser.add_argument_group("common options")
    common.add_argument("--no-color", action="store_true", help="no colour (NO_COLOR does the same)")
    common.add_argument("--quiet", action="store_true", help="only the result; no progress, no hints")
    common.add_argument("-v", "--verbose", action="store_true", help="log what is asked and answered, to stderr")


def add_site(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--site", metavar="DIR", help="site folder (default: this folder or the nearest one above)")


def add_json(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--json", action="store_true", help="one JSON document on stdout")


def add_only(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--only", metavar="WHICH", action="append", default=[], help="camera names, groups or patterns, with commas"
    )


def add_dry_run(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--dry-run", action="store_true", help="say what would change, and change nothing")


def add_passphrase(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--passphrase-fd",
        type=int,
        metavar="N",
        help=f"read the vault's passphrase from file descriptor N (default: ${PASSPHRASE_VARIABLE}, else ask)",
    )


def site_folder(args: argparse.Namespace) -> SiteFolder:
    from zentrale.site.folder import find_site

    return find_site(args.site)


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
    return text


def passphrase(args: argparse.Namespace, *, twice: bool = False) -> str:
    return secret(args.passphrase_fd, PASSPHRASE_VARIABLE, "vault passphrase", twice=twice)


def open_vault(args: argparse.Namespace, folder: SiteFolder) -> Vault:
    """Raises InputError where there is no vault, before anybody types a passphrase for it."""
    from zentrale.errors import InputError
    from zentrale.logbook.vault import Vault

    if not folder.vault_file.exists():
        raise InputError(f"{folder.vault_file}: there is no vault", "make one with `zentrale vault init`")
    return Vault.open(folder.vault_file, passphrase(args))


def vault_contents(args: argparse.Namespace, folder: SiteFolder) -> Contents:
    """What the vault holds, or nothing where there is none: looking around needs no vault."""
    from zentrale.logbook.vault import Contents

    return open_vault(args, folder).contents if folder.vault_file.exists() else Contents()
