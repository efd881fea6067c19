"""What a visit found, in the terminal."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sized

from rich.console import Console
from rich.text import Text

from crossthread.faces.terminal.console import columns, count, line, paragraph, said, table
from crossthread.live.account import Planned, Status, Visit, Visited

_LISTED = 20
_COLOURS: dict[Status, str] = {"complete": "green", "in part": "yellow", "same device": "dim"}
_WORDS: dict[Status, str] = {
    "complete": "read in full", "in part": "read in part", "refused": "refused", "silent": "silent",
    "unusable": "without a usable answer",
    "wrong credentials": "with wrong credentials", "no access": "without an access entry",
    "same device": "known under another address",
}  # fmt: skip


def show_visit(answer: Visit, out: Console) -> None:
    """First line: how many devices were read; then each that was not, and why; then who was told of and not asked."""
    counts = Counter(device.status for device in answer.devices)
    words = ", ".join(f"{counts[status]} {_WORDS[status]}" for status in _WORDS if counts[status]) or "nobody was asked"
    speed = f"{answer.objects:,} objects in {answer.seconds:.1f} s"
    out.print(line((words[:1].upper() + words[1:], "bold"), f": {speed}."))
    lacking = [device for device in answer.devices if device.status not in ("complete", "same device")]
    if lacking:
        out.print()
        columns([_lacking(device) for device in lacking[:_LISTED]], out)
        _more(lacking, out)
    listed = table("device", "address", "what", "objects", "named by", right=("objects",))
    rest = [device for device in answer.devices if device.status in ("complete", "same device")]
    for device in rest[:_LISTED]:
        what = "earlier" if device.earlier else device.says if device.status == "same device" else device.status
        listed.add_row(
            said(device.device or "?"),
            said(device.address),
            line((said(what), _COLOURS.get(device.status, ""))),
            f"{device.objects:,}",
            said(_named(device.named_by, 2)),
        )
    if rest:
        out.print()
        out.print(listed)
        _more(rest, out)
    if answer.not_asked:
        out.print()
        out.print(line(("Told of, and not asked:", "bold")))
        for entry in answer.not_asked[:_LISTED]:
            own = f" ({', '.join(entry.addresses)})" if entry.addresses else ""
            paragraph(out, said(f"{entry.device}{own}, heard at {_named(entry.named_by, 3)}: {entry.why}"), 3)
        _more(answer.not_asked, out)


def _lacking(device: Visited) -> tuple[Text, ...]:
    """A device that was not read in full: what became of it, who it is, and why and by whom it was named."""
    why = device.says or "; ".join(_columns(device))
    status = line((device.status, _COLOURS.get(device.status, "bold red")))
    return (
        status,
        said(device.address),
        said(device.device or "?"),
        said(f"{why}; named by {_named(device.named_by, 3)}"),
    )


def _columns(device: Visited) -> Iterator[str]:
    """The reasons why columns were not read in full, each with the first of its columns."""
    for why, many in Counter(entry.why for entry in device.not_in_full).most_common(3):
        one = next(entry for entry in device.not_in_full if entry.why == why)
        yield f"{one.column} ({one.identifier}){f' and {many - 1} more' if many > 1 else ''}: {why}"


def _named(by: tuple[str, ...], most: int) -> str:
    return ", ".join(by[:most]) + (f" and {len(by) - most} more" if len(by) > most else "")


def _more(entries: Sized, out: Console) -> None:
    rest = len(entries) - _LISTED
    if rest > 0:
        out.print(line(f"   … and {rest} more; --json has all."))


def show_planned(answer: Planned, out: Console) -> None:
    """What would be asked first, and how."""
    begins = f"{count(len(answer.start), 'address', 'addresses')} to begin with, nothing asked (dry run)."
    out.print(line((begins, "bold")))
    out.print(line(f"Nobody outside of {', '.join(answer.within)} would be asked."))
    for address, entries in answer.start:
        out.print(line(f"   {address}: {', then '.join(entries) or 'no entry of the access file is for it'}"))
    if answer.swept:
        out.print(line(f"And {count(answer.swept, 'address', 'addresses')} whether somebody names them or not."))
    if answer.interrupted:
        out.print(line("A visit was interrupted; this one would go on where it was."))
    if answer.kept:
        out.print(line(f"{count(answer.kept, 'device')} read before would not be asked; --again asks them afresh."))
