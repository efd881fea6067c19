"""Why any pair does not work, in the terminal: how many do, which repairs are needed, and the work."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import groupby

from rich.console import Console
from rich.text import Text

from crossthread.diagnosis.wanted_pairs import Share
from crossthread.faces.terminal.console import MARKS, STYLES, count, line, paragraph, said, table
from crossthread.faces.terminal.findings import CROWD, others, show_either
from crossthread.faces.terminal.why import show_order
from crossthread.questions.why_all import Mend, WhyAll


def show_why_all(answer: WhyAll, out: Console) -> None:
    """First line: how many of the wanted pairs fail, and what mends them; then each repair, then the work order."""
    now, then = answer.now, answer.then
    failing = now.wanted - now.works - now.unknown
    if not now.wanted:
        says = ": the survey lists no two hosts that should reach each other, or not enough of them to tell."
        out.print(line((f"{MARKS['unknown']} No pair to ask about", STYLES["unknown"]), says))
        return
    if not failing and not answer.mends:
        mark = "unknown" if now.unknown else "works"
        aside = f"; of {now.unknown:,} more it is not known" if now.unknown else ""
        words = f"{MARKS[mark]} {now.works:,} of {now.wanted:,} wanted pairs work"
        says = "nothing that was read is in their way" if now.unknown else "no repair is needed"
        out.print(line((words, STYLES[mark]), f"{aside}: {says}."))
        return
    head = f"{MARKS['fails']} {failing:,} of {now.wanted:,} wanted pairs do not work"
    left = then.wanted - then.works - then.unknown
    all_of = "them all" if not left else f"all but {left:,}" if left < failing else "none of them"
    aside = f"; of {then.unknown:,} it is not known" if then.unknown else ""
    if then.unknown > now.unknown:
        all_of += " as far as was read" if not left else ""
        aside = f"; whether {then.unknown:,} pairs work then is not known"
    says = f": {count(len(answer.mends), 'repair')} {'mends' if len(answer.mends) == 1 else 'mend'} {all_of}{aside}."
    if not answer.mends:
        says = f": no repair is proposed{aside}."
    paragraph(out, line((head, STYLES["fails"]), says), 0)
    number = 0
    for rule, group in groupby(answer.mends, lambda mend: mend.finding.rule):
        alike = list(group)
        shown = alike if len(alike) < CROWD else alike[:_SHOWN]
        _show_mends(shown, number + 1, out)
        number += len(alike)
        if len(shown) < len(alike):
            rest = alike[len(shown) :]
            least, most = min(mend.pairs for mend in rest), max(mend.pairs for mend in rest)
            pairs = f"{least:,}" if least == most else f"{least:,} to {most:,}"
            with_it = f"  hold up {pairs} pairs each; with them {percent(rest[-1].after)} of the wanted pairs work"
            out.print()
            head = f"{number - len(rest) + 1}–{number}. "
            out.print(line((head, "bold"), (rule, "bold"), f"  {len(rest)} more", with_it))
            paragraph(out, line(("at  ", "dim"), others([mend.finding for mend in rest])), 3)
            paragraph(out, line(("--json has the mend of each", "dim")), 5)
    _show_unmended(answer, out)
    if answer.order:
        show_order(
            answer.order,
            f"tried on a copy: {percent(then)} of the wanted pairs work then; as worked from {answer.seat}",
            out,
        )


_SHOWN = 3
"""How many of very many mends of one kind are shown in full."""


def _show_mends(mends: Sequence[Mend], first: int, out: Console) -> None:
    for number, mend in enumerate(mends, first):
        out.print()
        pairs = f"{mend.pairs:,} pair{'s' * (mend.pairs != 1)}"
        holds = f"  holds up {pairs}; with it {percent(mend.after)} of the wanted pairs work"
        out.print(line((f"{number}. ", "bold"), (mend.finding.rule, "bold"), holds))
        paragraph(out, said(mend.finding.says), 3)
        show_either(mend.finding, out)


def _show_unmended(answer: WhyAll, out: Console) -> None:
    for finding in answer.unmended:
        out.print()
        none = "no repair is proposed" if finding.alternatives else "no repair can be worked out"
        out.print(line((finding.rule, "bold"), f"  {none}"))
        paragraph(out, said(finding.says), 3)
        show_either(finding, out)


def percent(share: Share) -> str:
    """How many of the wanted pairs work; never 100% while one does not."""
    if share.works == share.wanted:
        return "100%"
    return f"{min(99.9, 100 * share.part):.1f}%" if share.part > 0.99 else f"{100 * share.part:.0f}%"


def show_progress(steps: Sequence[tuple[str, Share]], out: Console) -> None:
    """How many of the wanted pairs work now and after each step, with a bar."""
    listed = table("", "of the wanted pairs work", "", right=("of the wanted pairs work",))
    for name, share in steps:
        full = round(24 * share.part) if share.works < share.wanted else 24
        bar = Text("█" * full, style="green") + Text("·" * (24 - full), style="dim")
        listed.add_row(said(name), f"{percent(share)}  {share.works:,} of {share.wanted:,}", bar)
    out.print(listed)
