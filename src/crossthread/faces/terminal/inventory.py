"""The inventory, and the map against a drawing, in the terminal."""

from __future__ import annotations

from rich.console import Console

from crossthread.faces.documents.exports import as_csv
from crossthread.faces.terminal.console import count, line, paragraph, said, table
from crossthread.questions.inventory import Inventory
from crossthread.views.drawing import Drawing


def show_inventory(answer: Inventory, out: Console) -> None:
    """First line: how many devices, and how many of them were surveyed; then each, then the remarks."""
    surveyed = sum(device.how == "surveyed" for device in answer.devices)
    words = f"{count(len(answer.devices), 'device')}, {surveyed} surveyed, {count(len(answer.remarks), 'remark')}."
    out.print(line((words, "bold")))
    out.print()
    half = any(device.unread or device.how != "surveyed" for device in answer.devices)
    listed = table("device", "does", "platform", "software", "management", "how known", *(["not read"] if half else []))
    for device in answer.devices:
        does = " ".join(device.capabilities)
        cells = [device.device, does, device.platform, device.software, device.management, device.how]
        if half:
            cells.append(" ".join(device.unread) if device.how == "surveyed" else "")
        listed.add_row(*(said(cell or "") for cell in cells))
    out.print(listed)
    if answer.remarks:
        out.print()
        for remark in answer.remarks:
            paragraph(out, line((remark.rule, "bold"), f"  {remark.says}"), 0)


def show_drawing(answer: Drawing, out: Console) -> None:
    """First line: whether the drawing is right; then what is missing, extra and moved."""
    wrong = len(answer.missing) + len(answer.extra) + len(answer.moved)
    if not wrong:
        more = f", {len(answer.unconfirmed)} not confirmed" if answer.unconfirmed else ""
        word = "Nothing contradicts the drawing" if answer.unconfirmed else "The drawing is right"
        out.print(line((word, "bold green"), f": {count(len(answer.right), 'cable')} as drawn{more}."))
        _unconfirmed(answer, out)
        return
    words = f"{len(answer.right)} as drawn, {len(answer.missing)} missing, "
    words += f"{len(answer.extra)} extra, {len(answer.moved)} moved"
    words += f", {len(answer.unconfirmed)} not confirmed." if answer.unconfirmed else "."
    out.print(line((f"The drawing is wrong in {count(wrong, 'place')}", "bold red"), f": {words}"))
    for word, cables in (("missing", answer.missing), ("extra", answer.extra)):
        for cable in cables:
            paragraph(out, line((f"{word:<8}", "bold"), cable), 3)
    for change in answer.moved:
        paragraph(out, line((f"{'moved':<8}", "bold"), f"{change.drawn} is now {change.found}"), 3)
    _unconfirmed(answer, out)


def _unconfirmed(answer: Drawing, out: Console) -> None:
    """The drawn cables that only one end tells of, or none that was read."""
    for cable in answer.unconfirmed:
        paragraph(out, line(("not confirmed  ", "bold"), f"{cable}: heard at one end, or nobody read either"), 3)


def corrected_csv(answer: Drawing) -> str:
    """The cables that were found, in the form in which a drawing is read."""
    others = tuple(dict.fromkeys(name for cable in answer.corrected for name, _ in cable.extra))
    rows = [
        (cable.device, cable.port, cable.far_device, cable.far_port, *(dict(cable.extra).get(name) for name in others))
        for cable in answer.corrected
    ]
    return as_csv(("device", "port", "far_device", "far_port", *others), rows)
