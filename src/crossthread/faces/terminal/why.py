"""The answer to "why" in the terminal: verdict and reason first, then faults, mend, and the way."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from crossthread.diagnosis.findings import Finding
from crossthread.diagnosis.repair.work_order import WorkStep
from crossthread.faces.terminal.certainty import show_certainty
from crossthread.faces.terminal.console import MARKS, STYLES, columns, count, line, paragraph, said
from crossthread.faces.terminal.findings import show_findings
from crossthread.questions.why_answer import Why
from crossthread.questions.why_steps import WhySteps
from crossthread.views.class_matrix import Touch
from crossthread.views.way import Hop


def show_why(answer: Why, out: Console, brief: bool = False) -> None:
    """Print an answer; briefly, without the facts and the way."""
    out.print(_verdict(answer))
    _families(answer, out)
    if answer.verdict == "unknown":
        _unknown(answer, out)
    elif answer.verdict == "fails" and answer.findings:
        show_certainty(answer, out)
    for head, findings in _headed(answer):
        out.print()
        out.print(line((head, "bold")))
        show_findings(findings, out, evidence=not brief, decide=False)
    if answer.caveats and (answer.verdict == "works" or answer.repair_proven):
        out.print()
        out.print(line(("What was not seen, and could still stop it:", "bold")))
        for caveat in answer.caveats:
            paragraph(out, said(f"{caveat}."), 3)
    if answer.look and answer.verdict != "unknown":
        out.print()
        out.print(line(("To settle the rest, in this order:", "bold")))
        for look in answer.look:
            paragraph(out, said(look.says), 3)
    if answer.order:
        show_order(answer.order, _proof(answer), out)
    if answer.then:
        out.print()
        out.print(line(("It works with that done, but by luck:", "bold")))
        show_findings(answer.then, out, evidence=not brief, decide=False)
    if brief:
        return
    if answer.order and all(step.touches is None for step in answer.order):
        out.print()
        out.print(line(("--touches says which other pairs of hosts each step makes work, or stops.", "dim")))
    _way(f"The way from {answer.source} to {answer.target}", answer.path, out)
    _way(f"The way back from {answer.target} to {answer.source}", answer.path_back, out)
    hops = (*answer.path, *answer.path_back)
    if not all(hop.vid_read for hop in hops):
        out.print()
        out.print(line(("? stands after a VLAN that a frame may be in there; which one it is, nobody read.", "dim")))
    if any(hop.faults for hop in hops):
        out.print()
        out.print(line(("✗ marks where a fault stands; beyond it, the way as it goes once that is mended.", "dim")))


def _families(answer: Why, out: Console) -> None:
    """What is true by each version of IP, where the two have both."""
    for family in answer.families:
        mark, style = MARKS[family.verdict], STYLES[family.verdict]
        why = f": {family.stopped}" if family.stopped else ""
        paragraph(out, line((f"{mark} IPv{family.version} ", style), f"{family.verdict}{why}"), 3)


def show_steps(answer: WhySteps, out: Console) -> None:
    """Print the ladder from either end; the first rung that breaks first."""
    first, back = answer.breaks, answer.breaks_back
    if first is None and back is None:
        out.print(line((f"✓ every ping from {answer.source} to {answer.target} and back is answered", "green"), "."))
    else:
        who, rung = (answer.source, first) if first is not None else (answer.target, back)
        assert rung is not None
        says = f": the first ping without an answer is that to {rung.name}, the {rung.what}."
        paragraph(out, line((f"{MARKS[rung.verdict]} from {who}", STYLES[rung.verdict]), says), 0)
    for source, rungs in ((answer.source, answer.there), (answer.target, answer.back)):
        out.print()
        out.print(line((f"From {source}:", "bold")))
        rows = [
            [
                Text(f"{n:>4}"),
                Text(MARKS[rung.verdict], style=STYLES[rung.verdict]),
                said(rung.what),
                said(f"ping {rung.address or '(no address)'}"),
                said(rung.name),
            ]
            for n, rung in enumerate(rungs, 1)
        ]
        columns(rows, out)


def _headed(answer: Why) -> list[tuple[str, list[Finding]]]:
    """The findings under their headings, of which an unknown verdict has two."""
    findings = list(answer.findings)
    if answer.verdict == "fails":
        parts = [("In the way, in the order of the way:", findings)]
    elif answer.verdict == "works":
        parts = [("It works, but:", findings)]
    else:
        likely = [finding for finding in findings if finding.severity != "note"]
        absent = [finding for finding in findings if finding.severity == "note"]
        parts = [("Most likely wrong already, by what was read (likely, not proven):", likely)]
        parts += [("What it would take if nothing more is there than was read:", absent)]
    return [(head, found) for head, found in parts if found]


def _unknown(answer: Why, out: Console) -> None:
    """How far the packet surely gets, the one place to look at next and the others, and how the verdict will turn."""
    rows = [("so far", answer.surely)] if answer.surely else []
    rows += [("next" if not number else "then", f"{look.says}.") for number, look in enumerate(answer.look)]
    rows += [("turns", answer.turns)] if answer.turns and answer.look else []
    out.print()
    for word, says in rows:
        paragraph(out, line((f"{word:<8}", "bold"), says or ""), 3)


def _proof(answer: Why) -> str:
    proof = "proven step by step on a copy: the echo arrives and the reply comes back"
    if not answer.repair_proven:
        proof = f"not proven: {answer.unproven or 'packets may still go another way'}"
    return f"{proof}; as worked from {answer.seat}" if answer.seat else proof


def show_order(order: Sequence[WorkStep], proof: str, out: Console) -> None:
    """Print a work order."""
    out.print()
    paragraph(out, line(("The work, in this order", "bold"), f" ({proof}):"), 0)
    out.print()
    for number, step in enumerate(order, 1):
        paragraph(out, line((f"{number}. ", "bold"), (step.says, "green")), 0)
        if not step.reached:
            paragraph(out, line(("there   ", "dim"), f"no link leads to {step.device} yet: do it at the device"), 3)
        if step.first:
            paragraph(out, line(("first   ", "dim"), step.first), 3)
        if step.touches is not None:
            paragraph(out, line(("touches ", "dim"), _touches(step.touches)), 3)
        if step.loses:
            paragraph(out, line(("loses   ", "dim"), step.loses), 3)
        if step.wait_for:
            paragraph(out, line(("wait    ", "dim"), f"{step.wait:g} s for {step.wait_for}"), 3)
        if step.test:
            paragraph(out, line(("test    ", "dim"), step.test), 3)


def _touches(touch: Touch) -> str:
    if not touch.gain and not touch.lose:
        return "no pair of hosts starts or stops to work"
    parts = []
    for number, hosts, verb in ((touch.gain, touch.gaining, "start"), (touch.lose, touch.losing, "stop")):
        if number:
            named = ", ".join(hosts[:4]) + (f" and {len(hosts) - 4} more" if len(hosts) > 4 else "")
            parts.append(f"{count(number, 'pair')} {verb if number > 1 else verb + 's'} to work ({named})")
    return "; ".join(parts)


def _verdict(answer: Why) -> Text:
    mark, style = MARKS[answer.verdict], STYLES[answer.verdict]
    one, two = answer.source, answer.target + (f" by way of {answer.via}" if answer.via else "")
    if answer.verdict == "works":
        return line((f"{mark} {one} reaches {two}", style), ": the echo arrives and the reply comes back.")
    if answer.verdict == "unknown":
        turns = answer.turns or "What was read does not settle it."
        told = f": {answer.look[0].says}." if answer.look else f": {turns[0].lower()}{turns[1:]}"
        return line((f"{mark} Whether {one} reaches {two} is unknown", style), told)
    if not answer.findings:
        aside = "no change of what the survey lists would make it"
        return line((f"{mark} {one} does not reach {two}", style), f": {answer.stopped}; {aside}.")
    faults = [finding for finding in answer.findings if finding.severity != "note"] or answer.findings
    stand = f"{count(len(faults), 'fault')} {'stands' if len(faults) == 1 else 'stand'} in the way"
    gaps = len(answer.findings) - len(faults)
    stand += f", and what nobody read may hold {'another' if gaps == 1 else f'{gaps} more'}" if gaps else ""
    why = f" ({answer.stopped})" if answer.stopped else ""
    return line((f"{mark} {one} does not reach {two}", style), f": {stand}{why}.")


def _way(title: str, hops: Sequence[Hop], out: Console) -> None:
    out.print()
    out.print(line((title + ":", "bold")))
    rows = [[Text(word, style="bold") for word in ("", "", "at", "comes in", "VLAN", "goes out", "")]]
    for number, hop in enumerate(hops, 1):
        mark = Text("✗", style="bold red") if hop.faults else Text(" ")
        name = f"{hop.name} ({hop.interface})" if hop.interface else hop.name
        note = ", ".join(hop.faults) if hop.faults else ""
        asks = f"asks for {hop.asks_for}" if hop.asks_for else ""
        rows.append(
            [
                Text(f"{number:>4}"),
                mark,
                said(name),
                _wire(hop.enters, hop.tag_in),
                Text(f"{hop.vid}{'' if hop.vid_read else '?'}" if hop.vid else ""),
                _wire(hop.leaves, hop.tag_out),
                said("; ".join(part for part in (note, asks) if part), "red" if hop.faults else "dim"),
            ]
        )
    columns(rows, out)


def _wire(port: str | None, tag: int | None) -> Text:
    if port is None:
        return Text("")
    how = "" if tag is None else f" tag {tag}" if tag else " untagged"
    return said(port) + Text(how, style="dim")
