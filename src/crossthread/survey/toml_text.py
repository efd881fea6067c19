"""The text of a TOML document: what is wrong with it, and in which line each key stands."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator, Mapping
from typing import Any

from crossthread.errors import Problem

Steps = tuple[str | int, ...]
"""The way to a table or key: names of keys, numbers in lists."""


def parse_toml(text: str, file: str, problems: list[Problem]) -> dict[str, object] | None:
    """The document; None if it is none, and why is added to `problems`."""
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        at = re.search(r" \(at line (\d+), column (\d+)\)$", str(error))
        says = f"not valid TOML in column {at[2]}: {str(error)[: at.start()]}" if at else f"not valid TOML: {error}"
        problems.append(Problem(file, says, int(at[1]) if at else None))
        return None


_TOKEN = re.compile(
    r'"""(?:[^\\]|\\.)*?"""|\'\'\'.*?\'\'\'|"(?:[^"\\\n]|\\.)*"|\'[^\'\n]*\'|#[^\n]*|[\[\]{}\n]', re.DOTALL
)
"""What can open, close or hide the end of a statement of TOML 1.0: strings, comments, brackets, ends of lines."""


def _statements(text: str) -> Iterator[tuple[int, str]]:
    """The statements of a TOML document, each with the line it begins in: it ends with a line outside all brackets."""
    begin, line, depth, ended = 0, 1, 0, 0
    for token in _TOKEN.finditer(text):
        word = token.group()
        depth += (word in "[{") - (word in "]}") if len(word) == 1 else 0
        if word == "\n" and depth <= 0:
            yield line, text[begin : token.start()]
            begin, line = token.end(), line + 1 + ended
            ended, depth = 0, 0
        else:
            ended += word.count("\n")
    yield line, text[begin:]


_PLAIN = re.compile(r"\s*(?:\[([\w.-]+)\]|([\w-]+)\s*=)", re.ASCII)
"""A table's header, or the beginning of a statement, with keys that need no quotes: nothing else has to be parsed."""


def lines_of(text: str) -> dict[Steps, int]:
    """The line in which each table and each key of a TOML document stands.

    A key of a table in braces stands where that begins, if it is not told by itself.
    """
    found: dict[Steps, int] = {}
    prefix: Steps = ()
    counts: dict[Steps, int] = {}
    for at, statement in _statements(text):
        if plain := _PLAIN.match(statement):
            if plain[1]:
                prefix = tuple(plain[1].split("."))
            found.setdefault(prefix if plain[1] else (*prefix, plain[2]), at)
            continue
        parsed = tomllib.loads(statement)
        keys = _keys(parsed)
        if not parsed:
            continue
        if statement.lstrip().startswith("[["):
            counts[keys] = counts.get(keys, -1) + 1
            prefix = (*keys, counts[keys])
            found[prefix] = at
        elif statement.lstrip().startswith("["):
            prefix = keys
            found.setdefault(prefix, at)
        else:
            for path in _paths(parsed):
                found.setdefault((*prefix, *path), at)
    return found


def _keys(parsed: Mapping[str, object]) -> Steps:
    """The keys of a table's header, from the document that the header alone makes."""
    keys: list[str] = []
    node: object = parsed
    while isinstance(node, dict) and node:
        key = next(iter(node))
        keys.append(key)
        node = node[key]
    return tuple(keys)


def _paths(node: object) -> Iterator[Steps]:
    items: Any = node.items() if isinstance(node, dict) else enumerate(node) if isinstance(node, list) else ()
    for key, value in items:
        yield (key,)
        yield from ((key, *rest) for rest in _paths(value))
