"""What a command works with: the site's folder, its plan, its vault, its logbook, and the terminal."""

from __future__ import annotations

import argparse
import os
import sys
from contextlib import contextmanager
from functools import cached_property

from zentrale.cli import asking
from zentrale.cli.output import Output

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Iterator
    from pathlib import Path

    from zentrale.jobs.passwords.keyring import Keyring
    from zentrale.logbook.ledger import Patience
    from zentrale.logbook.store import Logbook
    from zentrale.logbook.vault import Vault
    from zentrale.site.folder import SiteFolder
    from zentrale.site.model import Plan


def plan_of(folder: SiteFolder) -> Plan:
    """The plan, with the numbers that the logbook keeps for cameras on the next free channel. Raises PlanError."""
    from zentrale import quantities
    from zentrale.jobs.recorders.recorder_kinds import KINDS
    from zentrale.site.reading import Bound, read_plan

    def bound() -> Bound:
        from zentrale.logbook.channel_numbers import next_channels
        from zentrale.logbook.store import Logbook

        if not folder.logbook_file.exists():
            return {}
        with Logbook(folder.logbook_file) as logbook:
            return next_channels(logbook)

    plan = read_plan(folder, bound=bound, kinds=KINDS)
    quantities.tell_times_in(plan.site.timezone)
    return plan


class Work:
    """One command on one site. The folder is found and the plan read where they are asked for first; a command asks for the
    plan before anybody types a passphrase, and opens the vault before it waits for the site.

    vault:   once it was opened, else None
    logbook: inside `alone` and `logging`
    """

    logbook: Logbook

    def __init__(
        self, args: argparse.Namespace, output: Output | None = None, folder: SiteFolder | None = None
    ) -> None:
        self.args = args
        self.output = output or Output(args)
        self.vault: Vault | None = None
        self._folder = folder

    @cached_property
    def folder(self) -> SiteFolder:
        """Raises InputError where no site is here."""
        from zentrale.site.folder import find_site

        return self._folder or find_site(self.args.site)

    @property
    def folder_if_any(self) -> SiteFolder | None:
        """None where no site is here. Raises InputError where one was named that is none."""
        from zentrale.errors import InputError

        try:
            return self.folder
        except InputError:
            if self.args.site:
                raise
            return None

    @cached_property
    def plan(self) -> Plan:
        """Raises PlanError."""
        return plan_of(self.folder)

    def open_vault(self) -> Vault:
        """Raises InputError where there is no vault, before anybody types a passphrase for it."""
        from zentrale.cli import defects
        from zentrale.errors import InputError
        from zentrale.logbook.vault import Vault

        file = self.folder.vault_file
        if not file.exists():
            raise InputError(f"{file}: there is no vault", "make one with `zentrale vault init`")
        vault = self.vault = Vault.open(file, asking.passphrase(self.args))
        defects.know_vault(vault)
        if readers := others_who_read(vault.path):
            print(
                f"warning: {vault.path} can be read by {readers}: whoever has it can guess for ever; `chmod 600 {vault.path}`",
                file=sys.stderr,
            )
        return vault

    def vault_if_any(self) -> Vault | None:
        """The vault, or None where there is none: looking around needs no vault."""
        return self.open_vault() if self.folder.vault_file.exists() else None

    @contextmanager
    def locked(self, command: str, *, needed: bool = True) -> Iterator[None]:
        """The site's lock, where `needed`: another run that changes this site is waited for, and named."""
        from zentrale.logbook.locks import site_lock

        if not needed:
            yield
            return

        def waiting(holder: str) -> None:
            self.output.notice(f"waiting for {holder}, which is changing this site (--no-wait does not wait)")

        with site_lock(self.folder, command, wait=not self.args.no_wait, waiting=waiting):
            yield

    @contextmanager
    def logging(self) -> Iterator[Logbook]:
        """The logbook, for a command that others may run beside."""
        from zentrale.logbook.store import Logbook

        with Logbook(self.folder.logbook_file) as self.logbook:
            self._give_power_back()
            yield self.logbook

    def _give_power_back(self) -> None:
        """To ports whose power a killed command left off, before anything else."""
        if not self.logbook.changes(step="port power"):  # nothing is loaded for it where no port was ever switched
            return
        import asyncio

        from zentrale.jobs.switches.power_back import give_back, still_dark

        dark = still_dark(self.logbook)
        if dark and self.vault is None:
            ports = ", ".join(map(str, dark))
            self.output.notice(
                f"a command that was killed left {ports} without power: `zentrale network check` gives it back"
            )
        elif dark and self.vault is not None:
            for port, problem in asyncio.run(give_back(self.plan, self.vault, self.logbook, dark)):
                said = f"could not be given back: {problem}" if problem else "has its power again"
                self.output.notice(f"{port}, whose power an earlier command took away, {said}")

    @contextmanager
    def alone(self, command: str, *, needed: bool = True) -> Iterator[Logbook]:
        """The site's lock, and its logbook."""
        with self.locked(command, needed=needed), self.logging() as logbook:
            yield logbook

    def keyring(self, *, dry_run: bool = False) -> Keyring:
        """What a run needs to get into devices: the vault as far as it was opened, and the logbook."""
        from zentrale.jobs.passwords.keyring import Keyring, Manner

        args, output = self.args, self.output
        manner = Manner(output.notice, asking.new_passphrase(), output.ask if sys.stdin.isatty() else None)
        return Keyring(
            self.plan, self.vault, self.logbook, patience(args, output, self.plan.policy.refusal_window_min),
            trusted=args.trust_new_certificate, same=args.same_device, overwrite=getattr(args, "overwrite_accounts", False),
            manner=manner, dry_run=dry_run,
        )  # fmt: skip


def others_who_read(path: Path) -> str:
    """Who besides the owner may read a file, in words; empty where nobody may, or where the system has no such rights."""
    if os.name != "posix":
        return ""
    mode = path.stat().st_mode
    return "everybody on this machine" if mode & 0o004 else "its group" if mode & 0o040 else ""


def patience(args: argparse.Namespace, output: Output, window_min: float) -> Patience:
    """How often devices may refuse; warns where that is more than is safe. Raises InputError."""
    from zentrale.errors import InputError
    from zentrale.logbook.ledger import TRIES, Patience

    tries = TRIES if args.tries is None else args.tries
    if not 1 <= tries <= 50:
        raise InputError(f"--tries {tries}: out of range", "expected 1 to 50")
    if tries > TRIES:
        output.notice(
            f"warning: many devices lock their account after three to five wrong passwords, for minutes or until they are "
            f"reset; --tries {tries} takes that risk"
        )
    return Patience(60 * window_min, tries, args.patient)
