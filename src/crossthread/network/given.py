"""What a question may be asked of: a survey's place, a survey, or a network."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from pathlib import Path
from typing import Concatenate, ParamSpec, TypeVar

from crossthread.network.families import whole
from crossthread.network.network import Network
from crossthread.survey import Survey, read_survey

Given = str | Path | Survey | Network
"""A folder or file with a survey, a survey, or a network; a network is derived once and then kept."""

_P = ParamSpec("_P")
_Answer = TypeVar("_Answer")


def network_of(given: Given) -> Network:
    """The network of whatever was given.

    Raises
    ------
    SurveyError
        If there is no survey at a place, or it cannot be read.
    """
    if isinstance(given, Network):
        return given
    return Network(given if isinstance(given, Survey) else read_survey(given))


def of_network(
    question: Callable[Concatenate[Network, _P], _Answer],
) -> Callable[Concatenate[Given, _P], _Answer]:
    """Let a question about a network be asked of anything that a network can be made of."""

    @wraps(question)
    def asked(network: Given, /, *args: _P.args, **kwargs: _P.kwargs) -> _Answer:
        asked_of = network_of(network)
        answer = question(asked_of, *args, **kwargs)
        return answer if asked_of.told is asked_of.survey else whole(answer, asked_of.told)

    return asked
