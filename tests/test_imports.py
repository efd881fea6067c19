"""Imports run downwards only, and the core draws nothing."""

import ast
import unittest
from pathlib import Path

import crossthread

ROOT = Path(crossthread.__file__).parent
BELOW = {
    "values": set(),
    "beside": set(),
    "survey": {"beside", "values"},
    "plan": {"survey", "values"},
    "network": {"survey", "values"},
    "questions": {"plan", "network", "survey", "beside", "values"},
    "demo": {"network", "survey", "values"},
    "sources": {"survey", "values"},
    "faces": {"questions", "plan", "sources", "network", "survey", "values"},
    "cli": {"faces", "plan", "demo", "sources", "questions", "network", "survey", "values"},
}
CORE = {"values", "beside", "plan", "survey", "network", "questions"}
INTERFACE = {"typer", "rich", "click", "matplotlib", "pandas", "jinja2"}


def imported(path):
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            yield node.module if node.level == 0 else "." * node.level


class Imports(unittest.TestCase):
    def modules(self):
        found = [path for path in ROOT.rglob("*.py") if path != ROOT / "__init__.py"]
        self.assertGreater(len(found), 40)
        return [(path, path.relative_to(ROOT).parts[0].removesuffix(".py")) for path in found]

    def test_downwards_only(self):
        for path, room in self.modules():
            for name in imported(path):
                if name.startswith("crossthread"):
                    goal = name.split(".")[1]
                    self.assertTrue(goal == room or goal in BELOW[room], f"{path.relative_to(ROOT)} imports {name}")
                self.assertFalse(name.startswith("."), f"{path} imports relatively")

    def test_the_core_has_no_interface(self):
        for path, room in self.modules():
            if room in CORE:
                names = {name.split(".")[0] for name in imported(path)}
                self.assertEqual(names & INTERFACE, set(), path)
                calls = [
                    node.func.id
                    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
                    if isinstance(node, ast.Call) and isinstance(node.func, ast.Name)
                ]
                self.assertNotIn("print", calls, path)


if __name__ == "__main__":
    unittest.main()
