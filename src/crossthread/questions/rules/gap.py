"""The finding about the survey itself."""

from __future__ import annotations

from crossthread.questions.findings import Finding, Subject
from crossthread.survey.survey import Evidence


def survey_gap(fact: Evidence, example: tuple[str, str]) -> Finding:
    """A fact was not observed on which a verdict turns.

    Matters: whether some hosts reach each other cannot be said without it.
    Notice: nothing.
    Confirm: the fact that is named is empty in the survey.
    Mend: look at it, and survey again.
    """
    key = fact.key
    words = [str(part) for part in key.values() if part is not None]
    vid = key.get("vid")
    subject = Subject(
        device=key.get("device"),
        port=key.get("port"),
        vid=int(vid) if vid else None,
        host=key.get("host"),
        interface=key.get("interface"),
    )
    says = f"Whether {example[0]} reaches {example[1]} turns on {fact.column} of {' '.join(words)}, "
    return Finding("survey-gap", "note", (subject,), f"{says}which was not observed.", (fact,))
