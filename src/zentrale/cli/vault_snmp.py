"""What opens switches by SNMP, as `zentrale vault` takes it in and lists it."""

from __future__ import annotations

import argparse

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Iterable

    from zentrale.logbook.vault_contents import SnmpEntry

PRIVACY_VARIABLE = "ZENTRALE_PRIVACY_PASSWORD"
_AUTHENTICATIONS = ("SHA-256", "SHA-224", "SHA-384", "SHA-512")  # as protocols/snmp_key.py has them, without its import
_CIPHERS = ("AES-128", "AES-192", "AES-256")


def add_arguments(add: argparse.ArgumentParser) -> None:
    add.add_argument(
        "--snmp", action="store_true",
        help=f"USER opens switches by SNMPv3: its authentication password, then its privacy password (${PRIVACY_VARIABLE})",
    )  # fmt: skip
    add.add_argument(
        "--snmp-community",
        action="store_true",
        help="USER is your name for a community of SNMPv2c, which goes in clear",
    )
    add.add_argument("--writes", action="store_true", help="with these: it may switch ports too (default: read only)")
    add.add_argument("--digest", choices=_AUTHENTICATIONS, help="with --snmp: of the user (default: SHA-256)")
    add.add_argument("--cipher", choices=_CIPHERS, help="with --snmp: of the user (default: AES-128)")
    add.add_argument("--privacy-fd", type=int, metavar="N", help="with --snmp: read the privacy password from there")


def is_meant(args: argparse.Namespace) -> bool:
    """Whether the options are about switches. Raises InputError for those that do not go together."""
    from zentrale.errors import InputError

    if args.snmp and args.snmp_community:
        raise InputError("vault add: --snmp and --snmp-community are two kinds", "give one of them")
    v3_only = [o for o, given in (("--digest", args.digest), ("--cipher", args.cipher)) if given]
    if v3_only and not args.snmp:
        raise InputError(f"vault add: {v3_only[0]} is for --snmp", "leave it out, or give --snmp")
    if args.writes and not (args.snmp or args.snmp_community):
        raise InputError("vault add: --writes is for what opens switches", "give --snmp or --snmp-community with it")
    if (args.snmp or args.snmp_community) and (args.file or args.column or args.factory or args.label):
        raise InputError(
            "vault add: what opens switches takes neither a list nor a label nor a maker", "give its name only"
        )
    return bool(args.snmp or args.snmp_community)


def entry(args: argparse.Namespace) -> SnmpEntry:
    """Asks for its secrets. Raises InputError."""
    from zentrale.cli import asking
    from zentrale.errors import InputError
    from zentrale.logbook.vault_contents import SnmpEntry
    from zentrale.protocols.snmp_key import SHORTEST, SnmpKey

    if args.user is None:
        raise InputError(
            "vault add: a name is missing", "give USER, as the switches know it; or any name for a community"
        )
    if args.snmp_community:
        community = asking.secret(args.password_fd, asking.PASSWORD_VARIABLE, f"community {args.user}", twice=True)
        return SnmpEntry(SnmpKey("v2c", args.user, community), args.writes)
    password = asking.secret(
        args.password_fd, asking.PASSWORD_VARIABLE, f"authentication password of {args.user}", twice=True
    )
    privacy = asking.secret(args.privacy_fd, PRIVACY_VARIABLE, f"privacy password of {args.user}", twice=True)
    for what, given in (("authentication", password), ("privacy", privacy)):
        if len(given) < SHORTEST:
            raise InputError(
                f"{what} password of {args.user}: it has {len(given)} characters",
                f"expected at least {SHORTEST} (RFC 3414 section 11.2); nothing was changed",
            )
    digest, cipher = args.digest or _AUTHENTICATIONS[0], args.cipher or _CIPHERS[0]
    return SnmpEntry(SnmpKey("v3", args.user, password, privacy, digest, cipher), args.writes)


def in_words(item: SnmpEntry) -> str:
    use = "to read and to switch ports" if item.writes else "to read"
    if item.key.version == "v2c":
        return f"community {item.key.name} for SNMPv2c, {use}; it goes in clear over the network"
    return f"user {item.key.name} for SNMPv3 ({item.key.authentication}, {item.key.cipher}), {use}"


def listed(entries: Iterable[SnmpEntry], *, shown: bool) -> list[dict[str, object]]:
    return [
        {
            "kind": f"SNMP{e.key.version}, {'switches ports' if e.writes else 'reads'}", "name": e.key.name,
            "user": e.key.name if e.key.version == "v3" else "", "factory_of": "",
            "password": " / ".join(e.key.secrets) if shown else "(hidden)",
        }
        for e in entries
    ]  # fmt: skip
