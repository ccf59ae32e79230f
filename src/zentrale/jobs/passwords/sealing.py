"""What stands on the owner's sealed sheet: every account of every device, with what it may do."""

from __future__ import annotations

from zentrale.jobs.known.planned import planned_devices
from zentrale.logbook.vault_contents import Contents
from zentrale.output.sealed_sheet import SecretLine
from zentrale.site.model import Plan


def secret_lines(plan: Plan, contents: Contents) -> list[SecretLine]:
    """In the order of the plan; devices that left it come last."""
    roles = {a.user: a.role for a in plan.accounts}
    watching = plan.policy.recorder_account
    order = [*planned_devices(plan), *sorted(set(contents.devices) - set(planned_devices(plan)))]
    lines: list[SecretLine] = []

    def role_of(name: str, user: str, role: str) -> str:
        return role if contents.sent_s(name, user) is None else f"{role}; new, not seen to open yet".lstrip("; ")

    for name in order:
        entry = contents.devices.get(name)
        if entry is not None:
            user = entry.credentials.user
            lines.append(SecretLine(name, user, role_of(name, user, "administrator"), entry.credentials.password))
        for (device, user), held in sorted(contents.accounts.items()):
            if device == name:
                role = "watch (recorder)" if user == watching else roles.get(user, "")
                lines.append(SecretLine(name, user, role_of(name, user, role), held.password))
    for held_key in contents.snmp:
        use = f"SNMP{held_key.key.version}, {'read and switch ports' if held_key.writes else 'read'}"
        kinds = ("authentication", "privacy") if held_key.key.version == "v3" else ("community",)
        lines += [
            SecretLine("switches", held_key.key.name, f"{use}: {kind}", secret)
            for kind, secret in zip(kinds, held_key.key.secrets, strict=True)
        ]
    return lines
