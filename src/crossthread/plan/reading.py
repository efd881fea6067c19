"""Reading a plan: TOML, with every error and the line it stands in."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from difflib import get_close_matches
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

from crossthread.errors import Problem, SurveyError, visible
from crossthread.plan.plan import (
    ENDS,
    Accepted,
    Plan,
    PlannedHost,
    PlannedLink,
    PlannedPort,
    PlannedVlan,
    Settings,
    Talk,
)
from crossthread.survey.building import cell_text
from crossthread.survey.cell_kinds import Kind
from crossthread.survey.contents import decoded
from crossthread.survey.toml_text import Steps, lines_of, parse_toml
from crossthread.values import parse_vid

FORMAT = 1
_SECTIONS = ("format", "title", "settings", "vlans", "ports", "links", "hosts", "talk", "accept")
_Record = TypeVar("_Record")


def read_plan(path: str | Path) -> Plan:
    """Read a plan from a file.

    Raises
    ------
    SurveyError
        If anything in it cannot be read: all problems at once, each with its line.
    """
    name, problems = str(path), list[Problem]()
    try:
        text = decoded(name, Path(path).read_bytes(), problems)
    except OSError as error:
        raise SurveyError([Problem(name, f"cannot be read: {error.strerror}")]) from None
    plan = parse_plan(text, name, problems) if text is not None else Plan()
    if problems:
        raise SurveyError(problems)
    return plan


def parse_plan(text: str, file: str, problems: list[Problem]) -> Plan:
    """Read a plan's text; what is wrong is added to `problems`."""
    document = parse_toml(text, file, problems)
    return Plan(file) if document is None else _Reader(document, lines_of(text), file, problems).plan()


class _Word(NamedTuple):
    """What a word of an entry may hold, and whether it may be left out."""

    kind: Kind
    optional: bool


def _words(record: type, known: Collection[str]) -> dict[str, _Word]:
    """The words of an entry that are not known anyway."""
    skipped = {*known, "line", "ends"}
    hints = ((name, hint) for name, hint in record.__annotations__.items() if name not in skipped)
    return {name: _Word(hint.__metadata__[0], not isinstance(hint.__origin__, type)) for name, hint in hints}


class _Reader:
    """Turns a document into records, noting what is wrong."""

    def __init__(
        self, document: dict[str, object], lines: dict[Steps, int], file: str, problems: list[Problem]
    ) -> None:
        self._document, self._lines, self._file, self._problems = document, lines, file, problems
        self._words: dict[type, dict[str, _Word]] = {}

    def plan(self) -> Plan:
        """The plan."""
        document = self._document
        for name in document:
            if name not in _SECTIONS:
                self._unknown((name,), name, _SECTIONS)
        version = document.get("format", FORMAT)
        if not isinstance(version, int) or isinstance(version, bool) or not 1 <= version <= FORMAT:
            self._wrong(("format",), f"expected {FORMAT}, the newest that this program reads", version)
        title = document.get("title")
        if title is not None and not isinstance(title, str):
            self._wrong(("title",), "expected text", title)
            title = None
        settings = self._record(Settings, self._table(("settings",)), ("settings",))
        return Plan(
            self._file,
            title,
            settings or Settings(),
            dict(self._vlans()),
            dict(self._ports()),
            tuple(self._links()),
            dict(self._hosts()),
            tuple(entry for _, entry in self._listed("talk", Talk)),
            tuple(entry for _, entry in self._listed("accept", Accepted)),
        )

    def _line(self, path: Steps) -> int:
        while path and path not in self._lines:
            path = path[:-1]
        return self._lines.get(path, 0)

    def _wrong(self, path: Steps, says: str, value: object = None, column: str | None = None) -> None:
        word = column or str(path[-1])
        shown = None if value is None else " ".join(map(str, value)) if isinstance(value, list) else str(value)
        self._problems.append(Problem(self._file, says, self._line(path) or None, word, shown))

    def _unknown(self, path: Steps, word: str, known: tuple[str, ...]) -> None:
        close = get_close_matches(word, known, 1)
        hint = f"; is “{close[0]}” meant?" if close else ""
        self._wrong(path, f"not a word of a plan here, expected one of {', '.join(known)}{hint}", column=visible(word))

    def _table(self, path: Steps) -> dict[str, object]:
        node: Any = self._document
        for key in path:
            node = node.get(key, {})
        if not isinstance(node, dict):
            self._wrong(path, "expected a table, such as { … } or lines under [" + ".".join(map(str, path)) + "]", node)
            return {}
        return node

    def _record(self, record: type[_Record], given: object, path: Steps, **known: object) -> _Record | None:
        """One entry; None if anything in it is wrong."""
        if not isinstance(given, dict):
            self._wrong(path, "expected a table such as { … }", given)
            return None
        if record not in self._words:
            self._words[record] = _words(record, known)
        words = self._words[record]
        before = len(self._problems)
        cells = dict(known)
        for word, value in given.items():
            if word == "ends" and "ends" in known:
                continue
            if word not in words:
                self._unknown((*path, word), word, tuple(words))
                continue
            kind = words[word].kind
            try:
                text = cell_text(value).strip()
                cells[word] = kind.read(text) if text else None
            except ValueError as error:
                says = str(error) if str(error).startswith(("a ", "an ", "VLAN")) else kind.expected
                self._wrong((*path, word), f"expected {says}", value)
        for word, (kind, optional) in words.items():
            if not optional and cells.get(word) is None:
                if word not in given:
                    self._wrong(path, f"this entry also needs {word}", column=str(path[0]))
                elif not given[word]:
                    self._wrong((*path, word), f"empty, expected {kind.expected}")
        cells["line"] = self._line(path)
        return record(**cells) if len(self._problems) == before else None

    def _vlans(self) -> Iterator[tuple[int, PlannedVlan]]:
        for word, given in self._table(("vlans",)).items():
            try:
                vid = parse_vid(word)
            except ValueError as error:
                self._wrong(("vlans", word), f"expected {error}")
                continue
            entry = self._record(PlannedVlan, given, ("vlans", word), vid=vid)
            if entry is not None:
                yield vid, entry

    def _ports(self) -> Iterator[tuple[tuple[str, str], PlannedPort]]:
        for device in self._table(("ports",)):
            for port, given in self._table(("ports", device)).items():
                entry = self._record(PlannedPort, given, ("ports", device, port), device=device, port=port)
                if entry is not None:
                    yield (device.casefold(), port), entry

    def _hosts(self) -> Iterator[tuple[str, PlannedHost]]:
        for host, given in self._table(("hosts",)).items():
            entry = self._record(PlannedHost, given, ("hosts", host), host=host)
            if entry is not None:
                yield host.casefold(), entry

    def _listed(self, section: str, record: type[_Record], **known: object) -> Iterator[tuple[Steps, _Record]]:
        entries = self._document.get(section, [])
        if not isinstance(entries, list):
            self._wrong((section,), f"expected entries that begin with [[{section}]]", None)
            return
        for number, given in enumerate(entries):
            entry = self._record(record, given, (section, number), **known)
            if entry is not None:
                yield (section, number), entry

    def _links(self) -> Iterator[PlannedLink]:
        entries = self._document.get("links", [])
        if not isinstance(entries, list):
            self._wrong(("links",), "expected entries that begin with [[links]]", None)
            return
        for number, given in enumerate(entries):
            path: Steps = ("links", number)
            ends = given.get("ends") if isinstance(given, dict) else None
            if not isinstance(ends, list) or len(ends) != 4 or not all(isinstance(e, str) and e for e in ends):
                self._wrong((*path, "ends"), f"expected [{', '.join(ENDS)}], four names in quotes", ends)
                continue
            entry = self._record(PlannedLink, given, path, ends=tuple(ends))
            if entry is not None:
                yield entry
