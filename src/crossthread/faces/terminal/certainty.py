"""How sure the answer to "why" is, in the terminal: whom a mend costs, what else is possible, what would decide."""

from __future__ import annotations

from rich.console import Console

from crossthread.diagnosis.judgement.confidence import (
    barely,
    confidence_of,
    doubted,
    kept_apart,
    one_speaks,
    picked,
    rivals,
)
from crossthread.diagnosis.repair.harm.side_effects import Pairs
from crossthread.faces.terminal.console import count, line, paragraph
from crossthread.questions.why_answer import Why


def show_certainty(answer: Why, out: Console) -> None:
    """Whom a mend costs, how sure it is, and what would decide where it is open."""
    out.print()
    if answer.costs:
        told = f"whatever was found to mend it would stop {_pairs(answer.costs)}, which work now: not proposed."
        paragraph(out, line((f"{'costs':<8}", "bold red"), told), 3)
    if answer.luck:
        works = "works" if len(answer.luck) == 1 else "work"
        told = f"{count(len(answer.luck), 'pair')} that {works} now will stop, which work by luck only: "
        paragraph(out, line((f"{'ends':<8}", "bold"), f"{told}{_pairs(answer.luck)}."), 3)
    if answer.unsure:
        told = f"{count(len(answer.unsure), 'pair')} that work now may stop, by what was not read: "
        paragraph(out, line((f"{'risks':<8}", "bold"), f"{told}{_pairs(answer.unsure)}."), 3)
    if answer.doubtful:
        named = _pairs(answer.doubtful)
        told = f"a mend was found that would stop {named}; whether they work now was not observed: not proposed."
        paragraph(out, line((f"{'doubt':<8}", "bold red"), told), 3)
    style = {"sure": "bold green", "likely": "bold", "open": "bold yellow"}[answer.confidence or "likely"]
    paragraph(out, line((f"{answer.confidence:<8}", style), _how_sure(answer)), 3)
    for told in answer.decide:
        paragraph(out, line((f"{'decide':<8}", "bold"), told), 3)


def _pairs(pairs: Pairs) -> str:
    named = ", ".join(f"{one} to {two}" for one, two in pairs[:4])
    return f"{named} and {len(pairs) - 4} more" if len(pairs) > 4 else named


def _how_sure(answer: Why) -> str:
    """What the word means here, and of which faults it is said."""
    told = [says for f in answer.findings for one in f.alternatives if one.changes == f.repair for says in one.because]
    if answer.confidence == "sure" and any(says.startswith("the plan ") for says in told):
        return "the plan decides; beyond it, what was read speaks for this mend, and hardly anything against it."
    if answer.confidence == "sure":
        return "what was read speaks for this mend, and hardly anything against it."
    if answer.costs:
        return "nothing was found that mends it and costs nobody: look further before anything is done."
    if not answer.repair:
        return "no mend is proposed: what was read does not decide what to change."
    levels = [(number, finding, confidence_of(finding)) for number, finding in enumerate(answer.findings, 1)]
    held = [(number, finding) for number, finding, level in levels if level == answer.confidence]
    which = " and ".join(f"{number} ({finding.rule})" for number, finding in held)
    if not held and answer.repair_proven:
        return "it mends the pair; whether it costs somebody was not read."
    if not held:
        return "the mend fits best, but is not proven."
    either = [number for number, finding, _ in levels if rivals(finding)]
    others = "the other mends are needed in any case."
    others = f"of {' and '.join(map(str, either))} another explanation is possible." if either else others
    if all(finding.rule == "survey-gap" for _, finding in held):
        return f"nobody read what decides whether {which} is a fault at all; {others}"
    if not any(finding.repair or finding.alternatives for _, finding in held):
        return f"what to change for {which} nothing that was read decides; {others}"
    if answer.confidence == "open":
        return f"two explanations of {which} are possible, and what was read does not decide between them."
    if all(picked(finding) for _, finding in held):
        return f"it fits best; what the mend of {which} sets was picked, as nothing that was read names it."
    if all(one_speaks(finding) for _, finding in held):
        return f"it fits best; for the mend of {which} speaks what one other station has, and nothing else."
    if all(kept_apart(finding) for _, finding in held):
        return f"it fits best; how {which} is now may be what the routing tables are kept apart for."
    if all(barely(finding) for _, finding in held):
        return f"it fits best; for the mend of {which} speaks hardly more than against it."
    if all(doubted(finding) and len(finding.alternatives) == 1 for _, finding in held):
        return f"it fits best; something speaks against the mend of {which}, too."
    return f"it fits best; of {which} another explanation is possible."
