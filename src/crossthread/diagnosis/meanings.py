"""What each finding means: the rules' docstrings, by the name of the finding."""

from __future__ import annotations

import re
from collections.abc import Callable
from inspect import getdoc

import msgspec

from crossthread.diagnosis.registry import FAMILIES, named, rules


class Meaning(msgspec.Struct, frozen=True):
    """What a finding means."""

    rule: str
    family: str
    means: str
    matters: str
    notice: str
    confirm: str
    decide: str
    """What tells its explanations apart, where several are possible; empty where confirming it does."""
    mend: str
    also: tuple[str, ...]
    """In which other cases it is said."""


def meanings() -> tuple[Meaning, ...]:
    """All findings, in the order of their families."""
    order = {family: number for number, family in enumerate(FAMILIES)}
    names = dict.fromkeys(rule.name for rule in sorted(rules(), key=lambda rule: order[rule.family]))
    return tuple(map(_meaning, names))


def meaning(rule: str) -> Meaning | None:
    """What one finding means; None if there is none of this name."""
    return _meaning(rule) if named(rule) else None


def _meaning(name: str) -> Meaning:
    first, *others = named(name)
    means, parts = parts_of(first.function)
    also = tuple(parts_of(other.function)[0] for other in others)
    return Meaning(
        name,
        first.family,
        means,
        parts["Matters"],
        parts["Notice"],
        parts["Confirm"],
        parts.get("Decide", ""),
        parts["Mend"],
        also,
    )


def parts_of(rule: Callable[..., object]) -> tuple[str, dict[str, str]]:
    """A rule's docstring: what it means, and its labelled parts."""
    means, _, rest = (getdoc(rule) or "").partition("\n\n")
    labelled = re.split(r"^(Matters|Notice|Confirm|Decide|Mend): ", rest, flags=re.MULTILINE)[1:]
    texts = [" ".join(text.split()) for text in labelled[1::2]]
    return " ".join(means.split()), dict(zip(labelled[::2], texts, strict=True))
