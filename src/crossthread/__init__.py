"""Cross Thread: finds why hosts on a campus switched network cannot reach each other.

>>> from crossthread import Network, read_survey, why
>>> network = Network(read_survey("my-campus"))          # doctest: +SKIP
>>> why(network, "ticket-desk-1", "archive-store").verdict  # doctest: +SKIP
'works'
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from crossthread.diagnosis.findings import Finding
    from crossthread.errors import UnknownNameError
    from crossthread.network import Network
    from crossthread.plan import Plan, read_plan
    from crossthread.questions.check import check
    from crossthread.questions.why import Why, why
    from crossthread.survey import Survey, SurveyError, read_survey, write_survey
    from crossthread.survey.changes import Change, apply_changes
    from crossthread.values import VlanSet
    from crossthread.views.map import map_network
    from crossthread.views.matrix import matrix

__version__ = "0.1.0"

__all__ = [
    "Change",
    "Finding",
    "Network",
    "Plan",
    "Survey",
    "SurveyError",
    "UnknownNameError",
    "VlanSet",
    "Why",
    "apply_changes",
    "check",
    "map_network",
    "matrix",
    "read_plan",
    "read_survey",
    "why",
    "write_survey",
]

_HOMES = {
    "apply_changes": "crossthread.survey.changes",
    "Change": "crossthread.survey.changes",
    "check": "crossthread.questions.check",
    "Finding": "crossthread.diagnosis.findings",
    "map_network": "crossthread.views.map",
    "matrix": "crossthread.views.matrix",
    "Network": "crossthread.network",
    "Plan": "crossthread.plan",
    "read_plan": "crossthread.plan",
    "read_survey": "crossthread.survey",
    "Survey": "crossthread.survey",
    "SurveyError": "crossthread.survey",
    "UnknownNameError": "crossthread.errors",
    "VlanSet": "crossthread.values",
    "Why": "crossthread.questions.why",
    "why": "crossthread.questions.why",
    "write_survey": "crossthread.survey",
}
"""Where each public name is at home: loaded when first asked for, so that no command waits for what others need."""


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    value = globals()[name] = getattr(import_module(_HOMES[name]), name)
    return value


def __dir__() -> list[str]:
    return sorted({*globals(), *__all__})
