"""Cross Thread: finds why hosts on a campus switched network cannot reach each other.

Every question is a function that takes a network, a survey, or the place of one, and returns a frozen record; see the
functions below. All errors are `CrossThreadError`.

>>> from crossthread import why
>>> from crossthread.demo import faulty
>>> why(faulty(), "foghorn-exhibit", "camera-recorder").verdict
'fails'
"""

from importlib import import_module
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from crossthread.answer import Answer
    from crossthread.diagnosis.findings import Finding, Subject
    from crossthread.diagnosis.meanings import Meaning, meanings
    from crossthread.errors import (
        CrossThreadError,
        ListeningError,
        Problem,
        SurveyError,
        UnknownNameError,
        UnreadableError,
        VisitError,
    )
    from crossthread.live.access import Access, read_access
    from crossthread.live.account import Visit, Visited
    from crossthread.live.agent import Agent, Agents, agents, agents_async
    from crossthread.live.listening import listen
    from crossthread.live.visiting import visit, visit_async
    from crossthread.network import Network
    from crossthread.network.given import Given
    from crossthread.plan import Plan, read_plan
    from crossthread.plan.drawing import DrawnCable, read_drawing
    from crossthread.questions.check import Check, check, select
    from crossthread.questions.compare import Comparison, compare
    from crossthread.questions.device import DevicePage
    from crossthread.questions.device import device_page as device
    from crossthread.questions.inventory import Inventory, inventory
    from crossthread.questions.link import LinkView
    from crossthread.questions.link import link_view as link
    from crossthread.questions.matrix_change import MatrixChange, matrix_after, matrix_before
    from crossthread.questions.plan_draft import draft_plan
    from crossthread.questions.port import PortPage
    from crossthread.questions.port import port_page as port
    from crossthread.questions.rehearse import Rehearsal, rehearse
    from crossthread.questions.tree_advice import TreeAdvice, tree_advice
    from crossthread.questions.tree_change import TreeChange, tree_change
    from crossthread.questions.tree_ways import TreeFailure, TreeWays, tree_ways
    from crossthread.questions.tree_ways import failure_of as tree_without
    from crossthread.questions.why import why
    from crossthread.questions.why_all import WhyAll, why_all
    from crossthread.questions.why_answer import Why
    from crossthread.questions.why_steps import WhySteps, why_steps
    from crossthread.questions.why_via import why_via
    from crossthread.sources.desk import Desk, desk
    from crossthread.sources.gathering import Gathered, gather
    from crossthread.survey import Survey, read_survey, write_survey
    from crossthread.survey.changes import Change, apply_changes
    from crossthread.survey.survey import Evidence
    from crossthread.values import VlanSet
    from crossthread.views.addresses import Addresses, addresses
    from crossthread.views.class_matrix import ClassMatrix, class_matrix
    from crossthread.views.drawing import Drawing, compare_drawing
    from crossthread.views.find import find
    from crossthread.views.map import Map, map_network
    from crossthread.views.matrix import Matrix, matrix, matrix_among
    from crossthread.views.sightings import Found
    from crossthread.views.tree import TreeAnswer, TreeOverview, instance_of, tree
    from crossthread.views.tree import tree_overview as trees
    from crossthread.views.vlan import VlanOverview, VlanView
    from crossthread.views.vlan import vlan_overview as vlans
    from crossthread.views.vlan import vlan_view as vlan

__version__ = "0.1.0"

__all__ = [
    "Access",
    "Addresses",
    "Agent",
    "Agents",
    "Answer",
    "Change",
    "Check",
    "ClassMatrix",
    "Comparison",
    "CrossThreadError",
    "Desk",
    "DevicePage",
    "Drawing",
    "DrawnCable",
    "Evidence",
    "Finding",
    "Found",
    "Gathered",
    "Given",
    "Inventory",
    "LinkView",
    "ListeningError",
    "Map",
    "Matrix",
    "MatrixChange",
    "Meaning",
    "Network",
    "Plan",
    "PortPage",
    "Problem",
    "Rehearsal",
    "Subject",
    "Survey",
    "SurveyError",
    "TreeAdvice",
    "TreeAnswer",
    "TreeChange",
    "TreeFailure",
    "TreeOverview",
    "TreeWays",
    "UnknownNameError",
    "UnreadableError",
    "Visit",
    "VisitError",
    "Visited",
    "VlanOverview",
    "VlanSet",
    "VlanView",
    "Why",
    "WhyAll",
    "WhySteps",
    "addresses",
    "agents",
    "agents_async",
    "apply_changes",
    "check",
    "class_matrix",
    "compare",
    "compare_drawing",
    "desk",
    "device",
    "draft_plan",
    "find",
    "gather",
    "instance_of",
    "inventory",
    "link",
    "listen",
    "map_network",
    "matrix",
    "matrix_after",
    "matrix_among",
    "matrix_before",
    "meanings",
    "port",
    "read_access",
    "read_drawing",
    "read_plan",
    "read_survey",
    "rehearse",
    "select",
    "tree",
    "tree_advice",
    "tree_change",
    "tree_ways",
    "tree_without",
    "trees",
    "visit",
    "visit_async",
    "vlan",
    "vlans",
    "why",
    "why_all",
    "why_steps",
    "why_via",
    "write_survey",
]

_HOMES = {
    "Access": "live.access",
    "Addresses": "views.addresses",
    "Agent": "live.agent",
    "Agents": "live.agent",
    "Answer": "answer",
    "Change": "survey.changes",
    "Check": "questions.check",
    "ClassMatrix": "views.class_matrix",
    "Comparison": "questions.compare",
    "CrossThreadError": "errors",
    "Desk": "sources.desk",
    "DevicePage": "questions.device",
    "Drawing": "views.drawing",
    "DrawnCable": "plan.drawing",
    "Evidence": "survey.survey",
    "Finding": "diagnosis.findings",
    "Found": "views.sightings",
    "Gathered": "sources.gathering",
    "Given": "network.given",
    "Inventory": "questions.inventory",
    "LinkView": "questions.link",
    "ListeningError": "errors",
    "Map": "views.map",
    "Matrix": "views.matrix",
    "MatrixChange": "questions.matrix_change",
    "Meaning": "diagnosis.meanings",
    "Network": "network",
    "Plan": "plan",
    "PortPage": "questions.port",
    "Problem": "errors",
    "Rehearsal": "questions.rehearse",
    "Subject": "diagnosis.findings",
    "Survey": "survey",
    "SurveyError": "errors",
    "TreeAdvice": "questions.tree_advice",
    "TreeAnswer": "views.tree",
    "TreeChange": "questions.tree_change",
    "TreeFailure": "questions.tree_ways",
    "TreeOverview": "views.tree",
    "TreeWays": "questions.tree_ways",
    "UnknownNameError": "errors",
    "UnreadableError": "errors",
    "Visit": "live.account",
    "VisitError": "errors",
    "Visited": "live.account",
    "VlanOverview": "views.vlan",
    "VlanSet": "values",
    "VlanView": "views.vlan",
    "Why": "questions.why_answer",
    "WhyAll": "questions.why_all",
    "WhySteps": "questions.why_steps",
    "addresses": "views.addresses",
    "agents": "live.agent",
    "agents_async": "live.agent",
    "apply_changes": "survey.changes",
    "check": "questions.check",
    "class_matrix": "views.class_matrix",
    "compare": "questions.compare",
    "compare_drawing": "views.drawing",
    "desk": "sources.desk",
    "device": "questions.device:device_page",
    "draft_plan": "questions.plan_draft",
    "find": "views.find",
    "gather": "sources.gathering",
    "instance_of": "views.tree",
    "inventory": "questions.inventory",
    "link": "questions.link:link_view",
    "listen": "live.listening",
    "map_network": "views.map",
    "matrix": "views.matrix",
    "matrix_after": "questions.matrix_change",
    "matrix_among": "views.matrix",
    "matrix_before": "questions.matrix_change",
    "meanings": "diagnosis.meanings",
    "port": "questions.port:port_page",
    "read_access": "live.access",
    "read_drawing": "plan.drawing",
    "read_plan": "plan",
    "read_survey": "survey",
    "rehearse": "questions.rehearse",
    "select": "questions.check",
    "tree": "views.tree",
    "tree_advice": "questions.tree_advice",
    "tree_change": "questions.tree_change",
    "tree_ways": "questions.tree_ways",
    "tree_without": "questions.tree_ways:failure_of",
    "trees": "views.tree:tree_overview",
    "visit": "live.visiting",
    "visit_async": "live.visiting",
    "vlan": "views.vlan:vlan_view",
    "vlans": "views.vlan:vlan_overview",
    "why": "questions.why",
    "why_all": "questions.why_all",
    "why_steps": "questions.why_steps",
    "why_via": "questions.why_via",
    "write_survey": "survey",
}
"""Where each public name is at home, and its name there if that is another: loaded when first asked for, so that no
command waits for what others need."""


def __getattr__(name: str) -> object:
    if name not in _HOMES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    home, _, own = _HOMES[name].partition(":")
    value = globals()[name] = getattr(import_module(f"crossthread.{home}"), own or name)
    return value


def __dir__() -> list[str]:
    return sorted({*globals(), *__all__})
