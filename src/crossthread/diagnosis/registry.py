"""The registry of rules: what each declares of itself, and where they are found.

A rule is one function in a module of `rules/` with `@rule(…)` above it. The catalogue of findings, what `check` asks
and of whom, what is nested under what and the rules of the machine-readable report all come from here; nothing else
has to be told of a new rule. What may be skipped on a large campus follows from what a rule declares to read and to
need, and from nothing else: a rule that declares nothing is asked about everything.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from enum import StrEnum
from functools import cache, wraps
from importlib import import_module
from inspect import isfunction
from pkgutil import walk_packages
from typing import Any, NamedTuple, TypeVar, cast

import crossthread.diagnosis.rules as rooms
from crossthread.diagnosis.caution import cautious
from crossthread.diagnosis.context import Context
from crossthread.diagnosis.findings import Finding

FAMILIES = (
    "Host", "Port", "Link", "Neighbour discovery", "VLAN", "Spanning tree", "Gateway and routing",
    "What stands between", "Plan and inventory",
)  # fmt: skip
_ORDER = (
    "host.place host.tag host.address host.subnet host.prefix host.gateway port.state port.vlan port.lost_vlan "
    "port.mode port.admission port.quality link_mode link link_vlan cable vlan vlan_subnet way neighbor discovery "
    "tree tree_ports gateway.interface gateway.port gateway.address gateway.subnet routing gateway.proxy_arp "
    "plan_ports plan plan_links"
)
"""Which modules come first where two rules have one name: the first one is the usual one."""

_F = TypeVar("_F", bound=Callable[..., Any])


class About(StrEnum):
    """What a rule is asked about; the arguments that it takes after the context stand behind."""

    HOST = "host"  # Station
    PORT = "port"  # End
    LOST_VLAN = "VLAN that is not there"  # End, VID: an access port whose VLAN is not active on its device
    LINK = "link"  # Adjacency
    CABLE = "cable"  # Link: one wire, also of an aggregate
    CABLED_PORT = "port with a cable"  # End
    LOOSE = "loose neighbour"  # Loose
    HEARING = "what a port hears"  # End, rows of neighbors.csv
    NEIGHBOR = "neighbour"  # a row of neighbors.csv
    TREE = "tree"  # TreeAnswer
    GATEWAY = "gateway"  # Station
    GATEWAY_PORT = "port towards a gateway"  # Station, End
    DEVICE = "device"  # its name
    PLANNED_PORT = "planned port"
    PLANNED_HOST = "planned host"
    PLANNED_LINK = "planned link"
    CAMPUS = "campus"  # nothing: the rule looks for itself


class Rule(NamedTuple):
    """What a rule declares.

    Attributes
    ----------
    name, family, function
        The name of its findings, the family that lists it, and the rule itself.
    about
        What `check` asks it about; None if only a question about two hosts does.
    reads
        Which facts of a host it looks at, where that is all it looks at of the host: see `all_rules.ALIKE`.
    needs
        Columns of which at least one must be there, and not 0, of its subject, or have one of some values: as
        `ports.violations` or `ports.admin=down`. Without that it has nothing to say.
    differ
        Columns of ports of which at least one must differ between the two ends of a link, or of one of its cables;
        without that it has nothing to say.
    where, unless
        It is asked only where this holds, and where none of those (mostly other rules) finds anything.
    follows, follows_in_vlan
        Under which findings its own go, best first: of one place, and of one VLAN or the hosts concerned.
    cuts
        Whether it stands for something that cuts VLANs.
    """

    name: str
    family: str
    function: Callable[..., Any]
    about: About | None
    reads: frozenset[str]
    needs: frozenset[str]
    differ: frozenset[str]
    where: Callable[..., object] | None
    unless: tuple[Callable[..., object], ...]
    follows: tuple[str, ...]
    follows_in_vlan: tuple[str, ...]
    cuts: bool


def rule(
    name: str,
    family: str,
    about: About | None = None,
    *,
    reads: str = "",
    needs: str = "",
    differ: str = "",
    where: Callable[..., object] | None = None,
    unless: Iterable[Callable[..., object]] = (),
    follows: str = "",
    follows_in_vlan: str = "",
    cuts: bool = False,
) -> Callable[[_F], _F]:
    """Declare a function to be a rule; see `Rule` for what can be declared.

    Its docstring says what the finding means and has the parts `Matters:`, `Notice:`, `Confirm:` and `Mend:`, and
    before the last, where several explanations may be possible, `Decide:`; the users' page is made of it.
    """
    if family not in FAMILIES:
        raise ValueError(f"expected a family of {', '.join(FAMILIES)} instead of {family}")

    def declare(function: _F) -> _F:
        if not hasattr(function, "declared"):
            function = _careful(function)
        declared = Rule(
            name,
            family,
            function,
            about,
            frozenset(reads.split()),
            frozenset(needs.split()),
            frozenset(differ.split()),
            where,
            tuple(unless),
            tuple(follows.split()),
            tuple(follows_in_vlan.split()),
            cuts,
        )
        held: tuple[Rule, ...] = getattr(function, "declared", ())
        function.declared = (declared, *held)  # type: ignore[attr-defined]  # decorators are made from below upwards
        return function

    return declare


def _careful(function: _F) -> _F:
    """The same rule, with what it finds looked at for mends that could do harm to something unknown."""

    @wraps(function)
    def asked(*args: object, **kwargs: object) -> object:
        found = function(*args, **kwargs)
        if found is None or not isinstance(args[0], Context):
            return found
        return cautious(args[0], found) if isinstance(found, Finding) else _each_careful(args[0], found)

    return cast(_F, asked)


def _each_careful(context: Context, found: Iterable[Finding]) -> Iterator[Finding]:
    for finding in found:
        yield cautious(context, finding)


@cache
def rules() -> tuple[Rule, ...]:
    """All rules, in the order in which they stand in the modules of `rules/`."""
    start = f"{rooms.__name__}."
    names = {room.name.removeprefix(start) for room in walk_packages(rooms.__path__, start) if not room.ispkg}
    first = [name for name in _ORDER.split() if name in names]
    ordered = first + sorted(names.difference(first))
    modules = [import_module(f"{rooms.__name__}.{name}") for name in ordered]
    return tuple(
        declared
        for module in modules
        for function in vars(module).values()
        if isfunction(function) and function.__module__ == module.__name__
        for declared in getattr(function, "declared", ())
    )


def named(name: str) -> tuple[Rule, ...]:
    """The rules of one name, the usual one first."""
    return tuple(declared for declared in rules() if declared.name == name)


@cache
def parents() -> dict[str, tuple[str, ...]]:
    """Under which findings those of a name go if both speak of one place."""
    return _merged("follows")


@cache
def parents_in_vlan() -> dict[str, tuple[str, ...]]:
    """Under which findings those of a name go if both speak of one VLAN, or of the hosts concerned."""
    return _merged("follows_in_vlan")


def _merged(column: str) -> dict[str, tuple[str, ...]]:
    found: dict[str, tuple[str, ...]] = {}
    for declared in rules():
        found[declared.name] = tuple(dict.fromkeys((*found.get(declared.name, ()), *getattr(declared, column))))
    return {name: above for name, above in found.items() if above}


@cache
def cutting() -> frozenset[str]:
    """The names of the findings that cut VLANs."""
    return frozenset(declared.name for declared in rules() if declared.cuts)
