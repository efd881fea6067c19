"""The finding about the survey itself."""

from __future__ import annotations

from collections.abc import Sequence

from crossthread.diagnosis.findings import Finding, Subject
from crossthread.survey.survey import Evidence


def survey_gap(facts: Sequence[Evidence], example: tuple[str, str]) -> Finding:
    """A fact was not observed on which a verdict turns.

    Matters: whether some hosts reach each other cannot be said without it.
    Notice: nothing.
    Confirm: the fact that is named is empty in the survey.
    Mend: look at it, and survey again.
    """
    first = facts[0]
    more = f" and of {len(facts) - 1} more" if len(facts) > 1 else ""
    words = " ".join(str(part) for part in first.key.values() if part is not None)
    says = f"Whether {example[0]} reaches {example[1]} turns on {first.column} of {words}{more} ({first.table}), "
    subjects = tuple(_subject(fact) for fact in facts)
    return Finding("survey-gap", "note", subjects, f"{says}which was not observed.", tuple(facts[:9]))


def _subject(fact: Evidence) -> Subject:
    key = fact.key
    vid = key.get("vid")
    return Subject(
        device=key.get("device"),
        port=key.get("port"),
        vid=int(vid) if vid else None,
        host=key.get("host"),
        interface=key.get("interface"),
    )
