"""`zentrale demo`: a whole commissioning on the stand-in site, with the real commands."""

from __future__ import annotations

import argparse

from zentrale.cli import asking, options
from zentrale.cli.demo_story import Story, end

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from pathlib import Path
    from subprocess import Popen

    from zentrale.cli.output import Output
    from zentrale.findings import Finding

DESCRIPTION = """\
Makes the site folder of Brackwater Locks, starts the stand-in site, then runs the real commands one after the
other, printing each as you would type it: plan, discover, register, verify, hand over. Ends with the faults that
are seeded in it, found and named. The first run encodes the cameras' pictures, which takes some seconds more. Where the
system allows it, all of it happens in a network of its own, which nothing else can reach."""
EXAMPLE = "zentrale demo --folder brackwater\n  zentrale demo network"

# Made-up passwords of the stand-in site. Real ones never stand in a program.
_PASSPHRASE = "demo passphrase"
_INSTALLER_PASSWORD = "Quoin-Paddle-58"
_SNMP_PASSWORD, _SNMP_PRIVACY, _COMMUNITY = "read-made-up-1", "hide-made-up-1", "locks-read"
_FACTORY_PASSWORD = "umbra-1234"
_CAUGHT, _CAPTURE = "quay-analogue", "output/demo/quay-analogue.pcap"

# What the scenario has wrong on purpose: where it shows, its code, its subject, and what it is.
SEEDED = (
    ("plan", "PWR-1", "switch pump-house", "the old switch runs out of PoE power when the night lights come on"),
    ("plan", "RUN-1", "camera boat-yard-slip", "a run of 104 m to the boat yard"),
    ("plan", "TRF-1", "link control-house:24 - pump-house:9", "an uplink that saturates"),
    ("plan", "ADR-1", "camera ticket-desk", "an address outside the camera subnet"),
    ("plan", "ADR-5", "2 cameras", "two cameras fresh from the box on the same default address"),
    ("plan", "WAL-2", "wall locks", "a wall whose decoder breaks when a panel is enlarged"),
    ("discover", "SEC-1", "camera lower-gate-south", "still on its maker's default password"),
    ("discover", "CLK-1", "camera pump-house-door", "a clock that is three hours off, so that signed requests fail"),
    ("register", "REG-3", "camera weir-south", "a planned privacy mask that its camera does not offer"),
    ("register", "REG-3", "recorder recorder-2", "two cameras planned to record on motion, which nobody has set"),
    ("network check", "SWI-1", "camera boat-yard-gate", "a camera plugged into another port than planned"),
    ("network check", "SWI-7", "switch upper-gates, port 4", "a port at half duplex"),
    ("network check", "SWI-12", "switch pump-house", "a switch near its PoE budget by day already"),
    ("network check", "SWI-21", "switch pump-house", "an old switch that is asked in clear"),
    ("verify", "STR-3", "camera upper-gate-south, main stream", "streams another resolution than planned"),
    ("verify", "SEC-2", "camera swing-bridge", "lets anybody watch without a password"),
    ("verify", "PIC-1", "camera fish-pass, main stream", "a covered lens: a black picture"),
    ("verify", "PIC-1", "camera fish-pass, sub stream", "the same, in its sub stream"),
    ("verify", "PIC-3", "camera gangway, main stream", "a picture out of focus"),
    ("verify", "PIC-3", "camera gangway, sub stream", "the same, in its sub stream"),
    ("verify", "STR-7", "camera landing-stage, main stream", "a stream that loses packets"),
    ("verify", "REC-1", "channel 12 of recorder-1", "a channel that does not record"),
    ("verify", "REC-11", "channel 13 of recorder-2", "one of the two that were to record on motion: it records always"),
    ("verify", "REC-11", "channel 14 of recorder-2", "the other"),
)
# And what it has beside where the system gives networks of one's own.
SEEDED_APART = (
    (
        "discover",
        "DIS-2",
        "device at 192.168.77.1",
        "a spare camera that nobody planned, on its maker's default address",
    ),
    ("discover", "DIS-12", "device at 192.168.77.1", "another spare camera on the same address"),
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "what", metavar="WHAT", nargs="?", choices=["network"],
        help="network: the demo site's network written and rehearsed before it exists (Linux, with Open vSwitch)",
    )  # fmt: skip
    parser.add_argument("--folder", metavar="DIR", help="make the site folder here (default: a new temporary folder)")
    parser.add_argument(
        "--seconds", metavar="S", type=float, default=5.0, help="measure the streams for this long (default: 5)"
    )
    parser.add_argument(
        "--keep-running", action="store_true", help="at the end leave the stand-in running until Ctrl-C"
    )
    parser.add_argument("--pause", action="store_true", help="wait for Enter after each step")
    options.add_common(parser)


def run(args: argparse.Namespace) -> int:
    import sys
    import tempfile
    from pathlib import Path

    from zentrale.cli.output import Output
    from zentrale.simulation import own_network

    output = Output(args)
    if args.what == "network":
        from zentrale.cli.demo_network import NetworkDemo

        folder = Path(args.folder) if args.folder else Path(tempfile.mkdtemp(prefix="zentrale-demo-")) / "brackwater"
        return NetworkDemo(output, folder.resolve(), args).run()
    if not args.keep_running:  # else the person wants to reach it from another terminal
        own_network.enter(sys.argv[1:])
    folder = Path(args.folder) if args.folder else Path(tempfile.mkdtemp(prefix="zentrale-demo-")) / "brackwater"
    demo = _Demo(output, folder.resolve(), args)
    try:
        return demo.run()
    finally:
        demo.stop()


class _Demo(Story):
    of = 10

    def __init__(self, output: Output, folder: Path, args: argparse.Namespace) -> None:
        super().__init__(output, folder, args)
        self.stand_in: Popen[str] | None = None
        self.seeded: tuple[tuple[str, str, str, str], ...] = SEEDED

    def run(self) -> int:
        import os
        import time

        started = time.monotonic()
        os.environ[asking.PASSPHRASE_VARIABLE] = _PASSPHRASE
        self._step("Brackwater Locks, 28 cameras and two recorders: a site folder, and the stand-in devices")
        self._command("new", str(self.folder), "--sample", "brackwater", folder=None)
        self._start_stand_in()
        self._step("Do the plan files hold together?")
        self._command("check")
        self._step("Power, traffic, storage, addresses, failures: what will not work, before anything is bought")
        self._command("plan", "--figures", expected=(0, 1))
        self._step("One encrypted file for all passwords")
        self._command("vault", "init")
        self._command("vault", "add", "admin", "--label", "installer's password", password=_INSTALLER_PASSWORD)
        self._command("vault", "add", "admin", "--factory", "Umbra Works", password=_FACTORY_PASSWORD)
        self._step("On site: who is there, and which planned camera is it?")
        self._command("discover", expected=(0, 1))
        self._step("What the switches say: which port, how many watts, which VLAN")
        self._command("vault", "add", "reader", "--snmp", password=_SNMP_PASSWORD, privacy=_SNMP_PRIVACY)
        self._command("vault", "add", "old-switches", "--snmp-community", password=_COMMUNITY)
        self._command("network", "check", expected=(0, 1))
        self._step("Passwords, names, time, streams, recorder channels: rehearsed, done, and nothing left to do")
        self._command("register", "--dry-run")
        self._command("register")
        self._command("register")
        self._step("Every stream measured, strangers kept out, every channel records")
        self._command("verify", "--seconds", f"{self.args.seconds:g}", expected=(0, 1))
        self._step("What a capture of the camera without ONVIF tells: who asked it for which stream")
        self._command("wire", "addresses", _CAPTURE)
        self._step("The evidence for the customer")
        self._command("handover", expected=(0, 1))
        if not self.args.keep_running:
            self.stop()
        code = self._conclude(time.monotonic() - started)
        if self.args.keep_running and self.stand_in is not None:
            self.output.line("the stand-in site runs on; Ctrl-C ends it")
            self.stand_in.wait()
        return code

    def _start_stand_in(self) -> None:
        import os
        import subprocess
        import sys

        from zentrale.errors import InputError

        along = ["--capture", _CAPTURE, "--capture-of", _CAUGHT]
        self.output.line(f"$ zentrale simulate {' '.join(along)} &", "cyan")
        self.output.hint("(the first start of the stand-in encodes its pictures, once)")
        # Its stdin closes when this program ends, however it ends: no process is left behind.
        with self._kept("stand-in") as file:
            self.stand_in = subprocess.Popen(
                [sys.executable, "-m", "zentrale", "simulate", "--with-parent", *along],
                stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=file, text=True, start_new_session=True,
                cwd=self.folder,
                env={**os.environ, "COLUMNS": "200"},  # what it is ready with is one line, however narrow this terminal is
            )  # fmt: skip
        assert self.stand_in.stdout is not None
        ready = self.stand_in.stdout.readline()
        if not ready.startswith("ready"):
            self.stand_in.wait()
            told_file = self.folder / "output" / "demo" / "stand-in.txt"
            raise InputError("the stand-in site did not start", told_file.read_text(encoding="utf-8").strip()[-600:])
        if "on one address" in ready:
            self.seeded = (*SEEDED, *SEEDED_APART)
        self.output.line(ready.rstrip())
        if self.args.keep_running:
            self.output.hint(
                "(two spare cameras on one address are played in a network of their own only, without --keep-running)"
            )

    def _conclude(self, elapsed_s: float) -> int:
        """Compare every finding of the runs with what the scenario seeded: all of it, and nothing else."""
        from zentrale import quantities
        from zentrale.errors import EXIT_AS_PLANNED, EXIT_FAULTS
        from zentrale.findings import Severity
        from zentrale.jobs.switches.judging_places import follow
        from zentrale.logbook.evidence import findings_of
        from zentrale.logbook.store import Logbook

        found: dict[tuple[str, str, str], str] = {
            ("plan", f.code, f.subject): f.measured for f in self._planning_findings()
        }
        late: list[str] = []  # what this machine could not follow
        with Logbook(self.folder / "logbook.sqlite") as logbook:
            for command in ("discover", "network check", "register", "verify"):
                run = logbook.last_run(command)
                for item in follow(findings_of(logbook, run.id) if run else []):
                    if item.severity is Severity.NOTE or item.caused_by:
                        continue  # such as a door that is tried in the next run: nobody has to decide
                    if item.code == "STR-38":
                        late.append(item.measured)
                        continue
                    found[(command, item.code, item.subject)] = item.measured
        seeded = {(command, code, subject) for command, code, subject, _ in self.seeded}
        self.output.line()
        self.output.line("What was wrong on purpose, and what found it", "bold")
        for command, code, subject, what in self.seeded:
            there = (command, code, subject) in found
            missing = "not judged" if late and command == "verify" else "NOT FOUND"
            self.output.line(f"  {'found' if there else missing}  {code} by `zentrale {command}`: {what}")
        false = [key for key in found if key not in seeded]
        for command, code, subject in false:
            self.output.line(
                f"FALSE FINDING  {code} {subject} (by {command}): {found[(command, code, subject)]}", "bold red"
            )
        missing_keys = {key for key in seeded - set(found) if not late or key[0] != "verify"}
        good = not false and not missing_keys
        if good and late:
            number = f"{len(seeded & set(found))} of {quantities.count(len(seeded), 'seeded fault')}"
            self.output.line(f"NOT JUDGED  {number} found, no false finding, in {elapsed_s:.0f} s", "bold yellow")
            self.output.line(f"this machine did not follow: {late[0]}; close other programs and run it again")
        elif good:
            number = quantities.count(len(self.seeded), "seeded fault")
            text = f"OK  {number} found and named, no false finding, in {elapsed_s:.0f} s"
            self.output.line(text, "bold green")
        else:
            self.output.line("FAULTS  the demo did not go as it should", "bold red")
        self.output.line(f"the hand-over pack lies in {self.folder / 'output' / 'handover'}", "bold")
        self.output.line(f"all that the commands said: {self.folder / 'output' / 'demo'}")
        self.output.next(
            f"`cd {self.folder}`, `zentrale plan power`, `zentrale explain PWR-1`; or `zentrale help tutorial`"
        )
        return EXIT_AS_PLANNED if good else EXIT_FAULTS

    def _planning_findings(self) -> list[Finding]:
        """What `plan` said, calculated again: the plan has no logbook. Notes need no decision."""
        from zentrale.findings import Severity
        from zentrale.jobs.parts.part_registry import PARTS
        from zentrale.jobs.planning import Request, calculate
        from zentrale.site.folder import SiteFolder
        from zentrale.site.outline import read_outline
        from zentrale.site.reading import read_plan

        folder = SiteFolder(self.folder)
        plan = read_plan(folder)
        result = calculate(plan, list(PARTS), Request(read_outline(folder.outline_file, plan.site.origin)))
        return [f for f in result.findings if f.severity is not Severity.NOTE]

    def stop(self) -> None:
        if self.stand_in is not None and self.stand_in.poll() is None:
            self.stand_in.terminate()
            end(self.stand_in)
