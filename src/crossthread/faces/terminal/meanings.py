"""What findings mean, in the terminal and as the page docs/findings.md."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console

from crossthread.diagnosis.meanings import Meaning
from crossthread.faces.terminal.console import line, paragraph, said

_PARTS = (("Why it matters", "matters"), ("What users notice", "notice"), ("To confirm it", "confirm"),
          ("To decide between explanations", "decide"), ("The usual mend", "mend"))  # fmt: skip


def show_meanings(answer: Sequence[Meaning], out: Console) -> None:
    """One finding in full, or all of them with a line each."""
    if len(answer) == 1:
        one = answer[0]
        out.print(line((one.rule, "bold"), f"  ({one.family})"))
        paragraph(out, said(one.means), 3)
        for title, text in _parts(one):
            paragraph(out, line((f"{title}: ", "bold"), text), 3)
        for other in one.also:
            paragraph(out, line(("Also: ", "bold"), other), 3)
        return
    family = None
    for one in answer:
        if one.family != family:
            family = one.family
            out.print()
            out.print(line((family, "bold")))
        paragraph(out, line((one.rule, "cyan"), f"  {one.means}"), 3)


def _parts(one: Meaning) -> list[tuple[str, str]]:
    """The labelled parts of a meaning, as sentences."""
    texts = [(title, getattr(one, part)) for title, part in _PARTS]
    return [(title, text[:1].upper() + text[1:]) for title, text in texts if text]


def meanings_page(answer: Sequence[Meaning]) -> str:
    """The page: a list with links, then each finding."""
    lines = [
        "# What the findings mean",
        "",
        "Made from the rules' own words by `crossthread findings --markdown`; do not edit it by hand.",
        "",
        "A finding `breaks` if there are two that should reach each other and cannot because of it, and names them;",
        "what passes now but is fragile or unsafe is a `risks`; anything else worth knowing is a `note`.",
    ]
    family = None
    for one in answer:
        if one.family != family:
            family = one.family
            lines += ["", f"## {family}"]
        lines += ["", f"### `{one.rule}`", "", one.means, ""]
        lines += [f"- **{title}:** {text}" for title, text in _parts(one)]
        lines += [f"- **Also:** {other}" for other in one.also]
    return "\n".join(lines) + "\n"
