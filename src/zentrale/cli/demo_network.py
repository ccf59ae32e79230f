"""`zentrale demo network`: the demo site's network written, rehearsed, broken and worked in, before it exists."""

from __future__ import annotations

from zentrale.cli.demo_story import Story

# Addresses as on a real site: those of the plain demo are loopback ones, which stand on no cable.
_LOOPBACK, _REAL = "127.0.", "10.71."
_SLIP = "recorder-forwards"


class NetworkDemo(Story):
    of = 5

    def run(self) -> int:
        import time

        from zentrale.errors import EXIT_AS_PLANNED

        begun = time.monotonic()
        self._step("Brackwater Locks with addresses as on a real site")
        self._command("new", str(self.folder), "--sample", "brackwater", folder=None)
        for name in ("site.toml", "cameras.csv"):
            file = self.folder / name
            file.write_text(file.read_text(encoding="utf-8").replace(_LOOPBACK, _REAL), encoding="utf-8")
        self._command("network", "write", expected=(0, 1))
        self._step("The written files on software switches, and real packets through them")
        self._command("network", "rehearse", expected=(0, 1))
        self._step("One of the classic slips: it is found, with its cause")
        self._command("network", "rehearse", "--break", _SLIP, expected=(0, 1))
        self._step("All planned streams at once, links and streams slowed down alike")
        self._command("network", "rehearse", "--load", expected=(0, 1))
        self._step("The whole commissioning from a laptop's port, with devices fresh from the box")
        inside = ["--run", "discover", "--run", "register", "--run", "verify"]
        self._command("network", "rehearse", *inside, expected=(0, 1))
        self.output.line()
        self.output.line(f"OK  the network stood before it exists, in {time.monotonic() - begun:.0f} s", "bold green")
        self.output.line(f"plan and packets side by side: {self.folder / 'output' / 'rehearsal.png'}")
        self.output.line(f"all that the commands said: {self.folder / 'output' / 'demo'}")
        self.output.next(f"`cd {self.folder}`, `zentrale network rehearse --failures`; or `zentrale help network`")
        return EXIT_AS_PLANNED
