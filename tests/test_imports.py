"""Imports run downwards only, in no circle, and the core draws nothing."""

import ast
import unittest
from graphlib import TopologicalSorter
from pathlib import Path

import crossthread

ROOT = Path(crossthread.__file__).parent
ORDER = ("errors", "collector", "values", "answer", "survey", "plan", "network", "views", "diagnosis")
ORDER += ("questions", "sources", "live", "faces", "demo", "cli", "__main__")
"""From the lowest room to the highest: a room may use those before it."""
APART = {
    "sources": {"plan", "network", "views", "diagnosis", "questions"},
    "live": {"plan", "network", "views", "diagnosis", "questions"},
    "demo": {"faces", "sources", "live", "questions"},
}
"""What a room has no business with, though it is lower."""
CORE = ORDER[: ORDER.index("questions") + 1]
INTERFACE = {"typer", "rich", "click", "matplotlib", "pandas", "jinja2"}


def trees():
    for path in ROOT.rglob("*.py"):
        name = ".".join(path.relative_to(ROOT.parent).with_suffix("").parts).removesuffix(".__init__")
        if name != "crossthread":
            yield name, ast.parse(path.read_text(encoding="utf-8"))


TREES = dict(trees())


def imported(tree):
    """The modules that a module imports, wherever in it that stands."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            yield "." * node.level + (node.module or "")
            yield from (f"{node.module}.{a.name}" for a in node.names if f"{node.module}.{a.name}" in TREES)


class Imports(unittest.TestCase):
    def test_downwards_only(self):
        self.assertGreater(len(TREES), 150)
        for name, tree in TREES.items():
            room = name.split(".")[1]
            for other in imported(tree):
                self.assertFalse(other.startswith("."), f"{name} imports relatively")
                if other.startswith("crossthread."):
                    goal = other.split(".")[1]
                    self.assertLessEqual(ORDER.index(goal), ORDER.index(room), f"{name} imports {other}")
                    self.assertNotIn(goal, APART.get(room, ()), f"{name} imports {other}")

    def test_no_circle_anywhere(self):
        uses = {}
        for name, tree in TREES.items():
            others = {other for other in imported(tree) if other in TREES}
            uses[name] = {o for o in others if o != name and not name.startswith(o + ".")}
        self.assertEqual(len(list(TopologicalSorter(uses).static_order())), len(TREES))  # raises where there is one

    def test_the_core_has_no_interface(self):
        for name, tree in TREES.items():
            if name.split(".")[1] in CORE:
                used = {other.split(".")[0] for other in imported(tree)} & INTERFACE
                self.assertLessEqual(used, {"pandas"} if name == "crossthread.answer" else set(), name)
                names = [n.func.id for n in ast.walk(tree) if isinstance(n, ast.Call) and isinstance(n.func, ast.Name)]
                self.assertNotIn("print", names, name)

    def test_no_room_is_crowded(self):
        for folder in [path for path in ROOT.rglob("*") if path.is_dir() and path.name != "__pycache__"]:
            self.assertLessEqual(len(list(folder.glob("*.py"))), 22, folder)


if __name__ == "__main__":
    unittest.main()
