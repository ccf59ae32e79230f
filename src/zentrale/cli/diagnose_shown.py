"""What a diagnosis shows: what many have in common, each device's verdict, and for one alone all its layers."""

from __future__ import annotations

TYPE_CHECKING = False  # as typing has it, without the cost of importing typing
if TYPE_CHECKING:
    from collections.abc import Sequence

    from zentrale.cli.output import Output
    from zentrale.jobs.diagnosing.diagnosis import Diagnosis
    from zentrale.jobs.diagnosing.diagnosis_run import Diagnoses

_FEW = 3  # devices whose causes and layers are shown unasked
_NAMES = 8  # in a line


def document(result: Diagnoses) -> dict[str, object]:
    from zentrale.cli.output import finding_document

    return {
        "vantage": result.vantage,
        "cameras": [d.document() for d in result.devices],
        "common": [c.document() for c in result.common],
        "remarks": list(result.remarks),
        "findings": [finding_document(f) for f in result.findings],
    }


def show(output: Output, result: Diagnoses) -> None:
    for text in result.remarks:
        output.hint(text)
    broken = [d for d in result.devices if d.trouble is not None]
    _verdict(output, result, broken)
    explained = {name for c in result.common for name in c.cameras}
    for common in result.common:
        output.line(f"one cause?  {common.says}", "bold yellow")
    whole = output.details or len(result.devices) <= _FEW
    for common in result.common if not whole else ():
        _beneath(output, common.what, [d for d in broken if d.name in common.cameras])
    for device in result.devices:
        if device.trouble is None:
            _well(output, device, whole=whole)
        elif device.trouble is not None and (whole or device.name not in explained):
            _one(output, device, whole=whole)
    if broken and not whole:
        output.line()
        output.line("causes, layers and the line for the phone of each: --details, or its name")
    if broken:
        names = " ".join(d.name for d in broken) if len(broken) <= _FEW else "--all"
        output.next(f"do what is named; then `zentrale diagnose {names}` again")
    elif any(d.unknown for d in result.devices):
        output.next("see why it is not known; then run it again")
    else:
        output.next("`zentrale verify`")


def _verdict(output: Output, result: Diagnoses, broken: Sequence[Diagnosis]) -> None:
    from zentrale.quantities import count

    unknown = [d for d in result.devices if d.trouble is None and d.unknown]
    well = len(result.devices) - len(broken) - len(unknown)
    if not result.devices:
        output.line(
            f"OK  all {len(result.well)} devices answer where they are planned, and no fault is open", "bold green"
        )
        return
    if not broken:
        style, word = ("bold yellow", "NOT KNOWN") if unknown else ("bold green", "WELL")
        left = f", of {len(unknown)} not all is known" if unknown else ""
        output.line(f"{word}  nothing breaks on the way of {count(len(result.devices), 'device')}{left}", style)
        return
    more = [f"{len(unknown)} not known"] if unknown else []
    more += [f"{well} well"] if well else []
    more += [f"{len(result.well)} more answer, without an open fault"] if result.well else []
    beside = f"; {', '.join(more)}" if more else ""
    output.line(f"BREAKS  {len(broken)} of {count(len(result.devices), 'device')}{beside}", "bold red")


def _beneath(output: Output, what: str, devices: Sequence[Diagnosis]) -> None:
    from zentrale.quantities import listed

    says = sorted({d.says for d in devices})
    output.line(f"  {what}: {listed([d.name for d in devices], _NAMES)}")
    output.line(f"  each {says[0]}" if len(says) == 1 else f"  for example {devices[0].name} {devices[0].says}")


def _well(output: Output, device: Diagnosis, *, whole: bool) -> None:
    output.line()
    output.line(f"{device.name}  {device.says}", "green" if not device.unknown else "yellow")
    if whole:
        _layers(output, device)


def _one(output: Output, device: Diagnosis, *, whole: bool) -> None:
    trouble = device.trouble
    assert trouble is not None
    output.line()
    output.line(f"{device.name}  {device.says}", "bold")
    output.said("  blame", f"{_who(trouble.blame.value)} ({trouble.code})", 10)
    if whole:
        for number, cause in enumerate(trouble.causes, start=1):
            text = f"{number}. {cause.cause}: {cause.because}"
            output.said("  likely", text, 10) if number == 1 else output.line(" " * 10 + text)
    output.said("  do", trouble.next, 10)
    for other in device.others:
        output.said("  also", f"{other.layer.word}: {other.says} ({other.code})", 10)
    if whole:
        output.said("  phone", f'"{device.phone}"', 10)
        _layers(output, device)


def _who(blame: str) -> str:
    return blame if blame == "this machine" else f"the {blame}"


def _layers(output: Output, device: Diagnosis) -> None:
    """Those of which nothing is known for one and the same reason in one row."""
    from itertools import groupby

    styles = {"holds": "ok|holds", "breaks": "fault|breaks", "not known": "warning|unknown"}
    rows = []
    for (state, seen), some in groupby(device.layers, lambda s: (s.state, s.seen)):
        layers = [s.layer.word for s in some]
        name = layers[0] if len(layers) == 1 else f"{layers[0]} to {layers[-1]}"
        rows.append([name, styles[state.value], seen])
    output.line()
    output.table(["layer", "state", "seen"], rows)
