"""`zentrale vault`: the credentials of a site."""

from __future__ import annotations

import argparse

from zentrale.cli import asking, options, vault_rotate, vault_snmp

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Callable
    from typing import TypeVar

    from zentrale.cli.output import Output
    from zentrale.cli.work import Work
    from zentrale.logbook.vault import Vault
    from zentrale.protocols.http_auth import Credentials

    T = TypeVar("T")

DESCRIPTION = f"""\
Keeps every password of a site in one encrypted file, vault.bin (scrypt and AES-256-GCM). The passphrase comes from
a prompt, from ${asking.PASSPHRASE_VARIABLE} or from --passphrase-fd; a device's password from a prompt, from
${asking.PASSWORD_VARIABLE} or from --password-fd. No password is ever taken from the command line itself."""
EXAMPLE = """zentrale vault init
  zentrale vault add admin --label "installer's password"
  zentrale vault add admin --factory "Umbra Works"
  zentrale vault add admin --from passwords.txt
  zentrale vault add reader --snmp
  zentrale vault list --show
  zentrale vault rotate
  zentrale vault seal passwords.pdf"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    actions = parser.add_subparsers(dest="action", metavar="ACTION", required=True)
    init = actions.add_parser("init", help="make the vault")
    add = actions.add_parser("add", help="add a candidate password that may work on devices found")
    add.add_argument("user", metavar="USER", nargs="?", help="the account's name on the devices")
    add.add_argument(
        "--from", dest="file", metavar="FILE", help="a list of them: a line each, or CSV or XLSX with a column password"
    )
    add.add_argument("--column", metavar="TITLE", help="with --from: the column that holds the passwords")
    add.add_argument("--label", help="what to call it in tables (default: the user's name)")
    add.add_argument("--factory", metavar="MAKER", help="it is this maker's default password")
    vault_snmp.add_arguments(add)
    device = actions.add_parser("set", help="set the credentials of one device of the plan")
    device.add_argument("name", metavar="DEVICE", help="camera or recorder, as in the plan")
    device.add_argument("user", metavar="USER", help="the account's name on the device")
    for sub in (add, device):
        sub.add_argument("--password-fd", type=int, metavar="N", help="read the password from file descriptor N")
    listing = actions.add_parser("list", help="list what the vault holds, without passwords")
    listing.add_argument("--show", action="store_true", help="with passwords")
    remove = actions.add_parser("remove", help="remove a candidate or a device's entry")
    remove.add_argument("label", metavar="LABEL", help="label of a candidate, or name of a device")
    change = actions.add_parser("passphrase", help="change the passphrase")
    change.add_argument("--new-fd", type=int, metavar="N", help="read the new passphrase from file descriptor N")
    for sub in (init, change):
        sub.add_argument("--weak", action="store_true", help="take a passphrase that is easily guessed")
    rotate = actions.add_parser("rotate", help="new passwords on the devices, and in the recorders that watch them")
    vault_rotate.add_rotate(rotate)
    seal = actions.add_parser("seal", help="all passwords as a sealed sheet for the owner (PDF, AES-256)")
    vault_rotate.add_seal(seal)
    for sub in (init, add, device, listing, remove, change, rotate, seal):
        options.add_site(sub)
        options.add_passphrase(sub)
        options.add_common(sub)
    options.add_json(listing)


def run(args: argparse.Namespace) -> int:
    from zentrale.cli.work import Work

    work = Work(args)
    if args.action == "rotate":
        return vault_rotate.rotate(work)
    actions = {
        "init": _init, "add": _add, "set": _set, "list": _list, "remove": _remove, "passphrase": _passphrase,
        "seal": vault_rotate.seal,
    }  # fmt: skip
    actions[args.action](work)
    return 0


def _init(work: Work) -> None:
    from zentrale.errors import InputError
    from zentrale.logbook.vault import Vault

    args, output, folder = work.args, work.output, work.folder
    if folder.vault_file.exists():
        raise InputError(f"{folder.vault_file}: the vault exists already", "use it, or move it away")
    passphrase = asking.passphrase(args, twice=True)
    _check_strength(passphrase, weak=args.weak)
    Vault.create(folder.vault_file, passphrase)
    output.line(f"made {folder.vault_file}")
    output.hint("without the passphrase nobody opens it again: keep it where the site's papers are")


def _check_strength(passphrase: str, *, weak: bool) -> None:
    """Raises InputError for one that whoever finds the file guesses soon."""
    from zentrale.errors import InputError
    from zentrale.logbook.vault import weakness

    if not weak and (why := weakness(passphrase)):
        raise InputError(
            f"passphrase: {why}",
            "take several words, such as four that nobody would put together; --weak takes it all the same",
        )


def _changed(output: Output, vault: Vault, change: Callable[[], T]) -> T:
    """Change the vault. Where another process changed its passphrase while somebody typed, the new one is asked for."""
    from zentrale.cli.asking import new_passphrase
    from zentrale.errors import PassphraseChangedError

    try:
        return change()
    except PassphraseChangedError as error:
        ask = new_passphrase()
        if ask is None:
            raise
        output.notice(error.what)
        vault.reopen(ask())
        return change()


def _add(work: Work) -> None:
    from zentrale.errors import InputError
    from zentrale.logbook.vault_contents import Candidate
    from zentrale.protocols.http_auth import Credentials

    args, output = work.args, work.output
    if vault_snmp.is_meant(args):
        entry = vault_snmp.entry(args)
        vault = work.open_vault()
        _changed(output, vault, lambda: vault.add_snmp(entry))
        output.line(f"added {vault_snmp.in_words(entry)}")
        output.next("`zentrale network check` asks the switches of the plan with it")
        return
    if args.file is not None:
        _add_list(work)
        return
    if args.user is None or args.column is not None:
        raise InputError("vault add: an account is missing", "give USER, or a list of passwords with --from FILE")
    vault = work.open_vault()
    password = asking.secret(args.password_fd, asking.PASSWORD_VARIABLE, f"password of {args.user}", twice=True)
    label = args.label or (f"default password of {args.factory}" if args.factory else args.user)
    candidate = Candidate(Credentials(args.user, password), label, args.factory or "")
    _changed(output, vault, lambda: vault.add_candidate(candidate))
    output.line(f"added candidate: {label}")


def _add_list(work: Work) -> None:
    from pathlib import Path

    from zentrale import quantities
    from zentrale.cli import defects
    from zentrale.jobs.passwords.candidate_lists import read_candidates

    args, output = work.args, work.output
    listed = read_candidates(Path(args.file), args.user, args.column, args.factory or "")
    for candidate in listed:
        defects.know(candidate.credentials.password)
    vault = work.open_vault()
    known = {c.credentials for c in vault.contents.candidates}
    new = [c for c in listed if c.credentials not in known]
    _changed(output, vault, lambda: vault.add_candidates(new))
    there = f", {len(listed) - len(new)} were there already" if len(listed) > len(new) else ""
    output.line(f"added {quantities.count(len(new), 'candidate')} from {args.file}{there}")
    output.hint("the file still holds them for everybody to read: delete it, or keep it where nobody finds it")
    output.next(
        "`zentrale discover`; it tries two a device in half an hour, so that none locks (--patient tries them all)"
    )


def _set(work: Work) -> None:
    from zentrale.errors import InputError
    from zentrale.jobs.known.planned import planned_devices
    from zentrale.protocols.http_auth import Credentials
    from zentrale.site.identity import Identity

    args, output = work.args, work.output
    plan = work.plan
    planned = planned_devices(plan)
    if args.name not in planned:
        raise InputError(f"{args.name}: no planned camera or recorder", f"expected one of: {', '.join(planned)}")
    vault = work.open_vault()
    password = asking.secret(args.password_fd, asking.PASSWORD_VARIABLE, f"password of {args.user}", twice=True)
    new = Credentials(args.user, password)
    further = {plan.policy.recorder_account, *(a.user for a in plan.accounts)}

    def keep() -> None:
        """Whose it is, is learnt when it opens: what was known of the device before says nothing of this password."""
        if args.user in further:
            vault.set_account(args.name, new)
        else:
            vault.set_device(args.name, new, Identity())

    _changed(output, vault, keep)
    output.line(f"set the credentials of {args.name}; the device itself was not touched")


def _list(work: Work) -> None:
    args, output = work.args, work.output
    contents = work.open_vault().contents

    def shown(credentials: Credentials) -> str:
        return credentials.password if args.show else "(hidden)"

    entries: list[dict[str, object]] = [
        {
            "kind": "candidate",
            "name": c.label,
            "user": c.credentials.user,
            "factory_of": c.factory_of,
            "password": shown(c.credentials),
        }
        for c in contents.candidates
    ]
    entries += [
        {
            "kind": "device",
            "name": name,
            "user": e.credentials.user,
            "factory_of": "",
            "password": shown(e.credentials),
            "pending": contents.sent_s(name, e.credentials.user) is not None,
        }
        for name, e in sorted(contents.devices.items())
    ]
    entries += [
        {
            "kind": "account",
            "name": name,
            "user": user,
            "factory_of": "",
            "password": shown(c),
            "pending": contents.sent_s(name, user) is not None,
        }
        for (name, user), c in sorted(contents.accounts.items())
    ]
    entries += [
        {
            "kind": "earlier",
            "name": f.name,
            "user": f.entry.credentials.user,
            "factory_of": "",
            "password": shown(f.entry.credentials),
        }
        for f in contents.former
    ]
    entries += vault_snmp.listed(contents.snmp, shown=args.show)
    if args.json:
        kept = entries if args.show else [{k: v for k, v in e.items() if k != "password"} for e in entries]
        output.document({"entries": kept})
    output.table(
        ["kind", "name", "user", "default of", "password"],
        ([str(e[k]) or "-" for k in ("kind", "name", "user", "factory_of", "password")] for e in entries),
    )
    pending = [f"{e['name']} {e['user']}" for e in entries if e.get("pending")]
    if pending:
        output.line(f"new, and not yet seen to open: {', '.join(pending)}; `zentrale register` goes on with them")


def _remove(work: Work) -> None:
    from zentrale.errors import InputError

    args, output = work.args, work.output
    vault = work.open_vault()
    if not _changed(output, vault, lambda: vault.remove(args.label)):
        held = vault.contents
        names = [c.label for c in held.candidates] + sorted(held.devices) + [e.key.name for e in held.snmp]
        raise InputError(
            f"{args.label}: the vault holds no such entry", f"expected one of: {', '.join(names) or 'it is empty'}"
        )
    output.line(f"removed {args.label}")


def _passphrase(work: Work) -> None:
    args, output = work.args, work.output
    vault = work.open_vault()
    passphrase = asking.secret(args.new_fd, "", "new passphrase", twice=True)
    _check_strength(passphrase, weak=args.weak)
    _changed(output, vault, lambda: vault.change_passphrase(passphrase))
    output.line("changed the passphrase")
