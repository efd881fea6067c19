"""An answer as JSON: the record itself, so that a program gets what a person sees."""

from __future__ import annotations

import re
from typing import Any

import msgspec

_UNSAFE = re.compile(r"[\x7f-\x9f\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff]")


def as_json(answer: Any) -> str:
    """An answer as indented JSON in which nothing can steer a terminal, whatever a neighbour called itself."""
    text = msgspec.json.format(msgspec.json.encode(answer), indent=2).decode()
    return _UNSAFE.sub(lambda found: f"\\u{ord(found.group()):04x}", text)
