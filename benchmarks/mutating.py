"""How much of the core the tests would notice: small changes made to its code at random, one at a time.

    pip install coverage
    python benchmarks/mutating.py [COUNT] [SEED] [--map FILE]

Each mutant is a copy of the code with one comparison, constant, operator or condition turned round. First every test
is run once, to see how long it takes and which lines it comes by; that takes as long as two runs of all tests, and is
kept in FILE if one is named. Then on each mutant those tests run that come by its line, the quick ones first, until one
fails, for some minutes at most: what is said to be noticed is, and a little more may be. Printed are the share that was
noticed, and every mutant that was not, for somebody to look at: it is equivalent (it changes no answer), or a test is
missing.
"""

import argparse
import ast
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
SOURCE = ROOT / "src" / "crossthread"
CORE = ("values.py", "survey", "plan", "network", "views", "diagnosis", "questions")
BUDGET, LIMIT, MEMORY = 500, 600, 3 << 30
"""For how many seconds of tests a mutant is looked at, as long as they take while they are watched, which is about
three times as long as without; after how many, or with how many bytes, it is taken to go on for ever, and is noticed.
"""
SWAPS = {
    ast.Eq: ast.NotEq, ast.NotEq: ast.Eq, ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.And: ast.Or, ast.Or: ast.And,
    ast.BitAnd: ast.BitOr, ast.BitOr: ast.BitAnd, ast.Add: ast.Sub, ast.Sub: ast.Add,
}  # fmt: skip
NAMES = {"min": "max", "max": "min", "any": "all", "all": "any"}


class Mutator(ast.NodeTransformer):
    """Counts the places that can be turned round, and turns one of them."""

    def __init__(self, target=-1):
        self.count, self.target, self.line, self.statement, self.first = 0, target, 0, 0, 0

    def visit(self, node):
        if isinstance(node, ast.stmt):
            outer, self.statement = self.statement, node.lineno
            found = super().visit(node)
            self.statement = outer
            return found
        return super().visit(node)

    def here(self, node):
        self.count += 1
        if self.count - 1 == self.target:
            self.line, self.first = node.lineno, self.statement
            return True
        return False

    def visit_FunctionDef(self, node):
        if not node.name.startswith("__repr"):
            node.body = [self.visit(part) for part in node.body]  # not what it is annotated with
        return node

    def visit_AnnAssign(self, node):
        if node.value is not None:
            node.value = self.visit(node.value)
        return node

    def visit_ClassDef(self, node):
        node.body = [
            self.visit(part) for part in node.body
        ]  # not what kind of record it is, which a law of its own holds
        return node

    def visit_keyword(self, node):
        return node if node.arg == "strict" else self.generic_visit(node)  # it only says what holds anyway

    def visit_Expr(self, node):
        return node if isinstance(node.value, ast.Constant) else self.generic_visit(node)  # a docstring

    def visit_Compare(self, node):
        self.generic_visit(node)
        if len(node.ops) == 1 and type(node.ops[0]) in SWAPS and self.here(node):
            node.ops = [SWAPS[type(node.ops[0])]()]
        return node

    def visit_BoolOp(self, node):
        self.generic_visit(node)
        if self.here(node):
            node.op = SWAPS[type(node.op)]()
        return node

    def visit_BinOp(self, node):
        self.generic_visit(node)
        plain = not isinstance(node.left, (ast.JoinedStr, ast.Tuple, ast.List))
        if type(node.op) in SWAPS and plain and self.here(node):
            node.op = SWAPS[type(node.op)]()
        return node

    def visit_UnaryOp(self, node):
        self.generic_visit(node)
        return node.operand if isinstance(node.op, ast.Not) and self.here(node) else node

    def visit_Constant(self, node):
        if isinstance(node.value, bool) and self.here(node):
            return ast.copy_location(ast.Constant(not node.value), node)
        if isinstance(node.value, int) and not isinstance(node.value, bool) and self.here(node):
            return ast.copy_location(ast.Constant(node.value + 1), node)
        return node

    def visit_Call(self, node):
        self.generic_visit(node)
        if isinstance(node.func, ast.Name) and node.func.id in NAMES and self.here(node):
            node.func = ast.copy_location(ast.Name(NAMES[node.func.id], ast.Load()), node.func)
        return node


def places():
    """Every place in the core: the file, and the number of the place in it."""
    for name in CORE:
        for path in sorted((SOURCE / name).rglob("*.py")) if (SOURCE / name).is_dir() else [SOURCE / name]:
            counter = Mutator()
            counter.visit(ast.parse(path.read_text(encoding="utf-8")))
            yield from ((path, n) for n in range(counter.count))


def each(suite):
    for part in suite:
        yield from each(part) if isinstance(part, unittest.TestSuite) else [part]


def look(module):
    """Of each test of a module how many seconds it takes, and which lines of the core it comes by."""
    import coverage

    watch = coverage.Coverage(data_file=None, include=[str(SOURCE / "*")])
    sys.path.insert(0, str(ROOT))
    found = {}
    for test in each(unittest.defaultTestLoader.loadTestsFromName(f"tests.{module}")):
        watch.erase()
        begin = time.monotonic()
        watch.start()
        result = unittest.TestResult()
        unittest.TestSuite([test]).run(result)
        watch.stop()
        if result.wasSuccessful() and not result.skipped:
            data = watch.get_data()
            lines = {str(Path(file).relative_to(ROOT)): data.lines(file) for file in data.measured_files()}
            found[test.id()] = {"seconds": time.monotonic() - begin, "lines": lines}
    return found


def look_at_all():
    """The same of all modules, each in a process of its own."""

    def one(path):
        command = [sys.executable, __file__, "--look", path.stem]
        settings = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
        told = subprocess.run(command, cwd=ROOT, env=settings, capture_output=True, text=True, check=True)
        return json.loads(told.stdout.splitlines()[-1])

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        return {
            test: seen
            for found in pool.map(one, sorted((ROOT / "tests").glob("test_*.py")))
            for test, seen in found.items()
        }


def fitting(tests, path, mutator):
    """The tests that come by a mutant's line, or at least by its file, quick ones first, as long as they may take."""
    file = str(path.relative_to(ROOT))
    by = [t for t, seen in tests.items() if {mutator.line, mutator.first} & set(seen["lines"].get(file, ()))]
    inside = [t for t, seen in tests.items() if file in seen["lines"]]
    chosen, taken = [], 0.0
    for test in sorted(by or inside or tests, key=lambda t: tests[t]["seconds"]):
        taken += tests[test]["seconds"]
        if taken > BUDGET:
            break
        chosen.append(test)
    return chosen


def noticed(tests, job):
    """Whether the tests notice a mutant; and where it is, as it was and as it is."""
    path, number = job
    text = path.read_text(encoding="utf-8")
    mutator = Mutator(number)
    tree = mutator.visit(ast.parse(text))
    fresh = ast.unparse(ast.fix_missing_locations(tree)).splitlines()
    plain = ast.unparse(ast.parse(text)).splitlines()
    turned = next((f"{a.strip()}  →  {b.strip()}" for a, b in zip(plain, fresh, strict=False) if a != b), "?")
    where = f"{path.relative_to(ROOT)}:{mutator.line}: {turned[:300]}"
    with tempfile.TemporaryDirectory() as holder:
        copy = Path(holder) / "src"
        shutil.copytree(ROOT / "src", copy, ignore=shutil.ignore_patterns("__pycache__"))
        (copy / path.relative_to(ROOT / "src")).write_text("\n".join(fresh) + "\n", encoding="utf-8")
        bounded = "import resource, unittest; resource.setrlimit(resource.RLIMIT_AS, (%d, %d)); unittest.main(None)"
        command = [sys.executable, "-c", bounded % (MEMORY, MEMORY), "-f", *fitting(tests, path, mutator)]
        settings = {**os.environ, "PYTHONPATH": str(copy), "PYTHONDONTWRITEBYTECODE": "1"}
        try:
            done = subprocess.run(command, cwd=ROOT, env=settings, capture_output=True, timeout=LIMIT, check=False)
        except subprocess.TimeoutExpired:
            return True, where
    return done.returncode != 0, where


def main():
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("count", type=int, nargs="?", default=200)
    parser.add_argument("seed", type=int, nargs="?", default=1)
    parser.add_argument("--map", type=Path, help="where what each test comes by is kept")
    parser.add_argument("--look", help=argparse.SUPPRESS)
    given = parser.parse_args()
    if given.look:
        print(json.dumps(look(given.look)))
        return
    kept = given.map
    tests = json.loads(kept.read_text()) if kept and kept.exists() else look_at_all()
    if kept:
        kept.write_text(json.dumps(tests))
    chosen = random.Random(given.seed).sample(list(places()), given.count)
    seen = 0
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        for done, (caught, where) in enumerate(pool.map(lambda job: noticed(tests, job), chosen), 1):
            seen += caught
            if not caught:
                print(f"not noticed  {where}", flush=True)
            if done % 10 == 0:
                print(f"{seen} of {done} noticed ({100 * seen / done:.0f}%)", flush=True)
    print(f"{seen} of {given.count} mutants noticed: {100 * seen / given.count:.0f}%")


if __name__ == "__main__":
    main()
