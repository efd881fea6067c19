"""Cross Thread: finds why hosts on a campus switched network cannot reach each other.

>>> from crossthread import Network, read_survey, why
>>> network = Network(read_survey("my-campus"))          # doctest: +SKIP
>>> why(network, "ticket-desk-1", "archive-store").verdict  # doctest: +SKIP
'works'
"""

from crossthread.network import Network
from crossthread.plan import Plan, read_plan
from crossthread.questions.check import check
from crossthread.questions.findings import Finding
from crossthread.questions.hosts import UnknownHostError
from crossthread.questions.map import map_network
from crossthread.questions.matrix import matrix
from crossthread.questions.why import Why, why
from crossthread.survey import Survey, SurveyError, read_survey, write_survey
from crossthread.survey.changes import Change, apply_changes
from crossthread.values import VlanSet

__version__ = "0.1.0"

__all__ = [
    "Change",
    "Finding",
    "Network",
    "Plan",
    "Survey",
    "SurveyError",
    "UnknownHostError",
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
