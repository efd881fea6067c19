"""How much of the core the tests would notice: small changes made to its code at random, one at a time.

    python benchmarks/mutating.py [COUNT] [SEED]

Each mutant is a copy of the code with one comparison, constant, operator or condition turned round. The tests of the
core run on it, the quick ones first, until one fails. Printed are the share that was noticed, and every mutant that was
not, for somebody to look at: it is equivalent (it changes no answer), or a test is missing.
"""

import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
CORE = ("values.py", "survey", "plan", "network", "views", "diagnosis", "questions")
QUICK = "values network find plan corners check why rules api lab situations tree spanning inventory"
SLOW = "mapped generated rehearse half_known survey tables evidence repair changed_copies figure views laws"
LIMIT = 1200
"""After how many seconds the tests of a mutant are taken to go on for ever, which is noticed, too."""
SWAPS = {
    ast.Eq: ast.NotEq, ast.NotEq: ast.Eq, ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.And: ast.Or, ast.Or: ast.And,
    ast.BitAnd: ast.BitOr, ast.BitOr: ast.BitAnd, ast.Add: ast.Sub, ast.Sub: ast.Add,
}  # fmt: skip
NAMES = {"min": "max", "max": "min", "any": "all", "all": "any"}


class Mutator(ast.NodeTransformer):
    """Counts the places that can be turned round, and turns one of them."""

    def __init__(self, target=-1):
        self.count, self.target, self.line = 0, target, 0

    def here(self, node):
        self.count += 1
        if self.count - 1 == self.target:
            self.line = node.lineno
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
        if (
            type(node.op) in SWAPS
            and not isinstance(node.left, (ast.JoinedStr, ast.Tuple, ast.List))
            and self.here(node)
        ):
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
    source = ROOT / "src" / "crossthread"
    for name in CORE:
        for path in sorted((source / name).rglob("*.py")) if (source / name).is_dir() else [source / name]:
            counter = Mutator()
            counter.visit(ast.parse(path.read_text(encoding="utf-8")))
            yield from ((path, n) for n in range(counter.count))


def noticed(job):
    """Whether the tests notice a mutant; and where it is, as it was and as it is."""
    path, number = job
    text = path.read_text(encoding="utf-8")
    mutator = Mutator(number)
    tree = mutator.visit(ast.parse(text))
    fresh = ast.unparse(ast.fix_missing_locations(tree)).splitlines()
    plain = ast.unparse(ast.parse(text)).splitlines()
    turned = next((f"{a.strip()}  →  {b.strip()}" for a, b in zip(plain, fresh, strict=False) if a != b), "?")
    where = f"{path.relative_to(ROOT)}:{mutator.line}: {turned[:200]}"
    with tempfile.TemporaryDirectory() as holder:
        copy = Path(holder) / "src"
        shutil.copytree(ROOT / "src", copy, ignore=shutil.ignore_patterns("__pycache__"))
        (copy / path.relative_to(ROOT / "src")).write_text("\n".join(fresh) + "\n", encoding="utf-8")
        tests = [f"tests.test_{name}" for name in (QUICK + " " + SLOW).split()]
        command = [sys.executable, "-m", "unittest", "-f", *tests]
        settings = {**os.environ, "PYTHONPATH": str(copy), "PYTHONDONTWRITEBYTECODE": "1"}
        try:
            done = subprocess.run(command, cwd=ROOT, env=settings, capture_output=True, timeout=LIMIT, check=False)
        except subprocess.TimeoutExpired:
            return True, where
    return done.returncode != 0, where


def main(words):
    count, seed = int(words[0]) if words else 200, int(words[1]) if len(words) > 1 else 1
    chosen = random.Random(seed).sample(list(places()), count)
    seen = 0
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        for done, (caught, where) in enumerate(pool.map(noticed, chosen), 1):
            seen += caught
            if not caught:
                print(f"not noticed  {where}", flush=True)
            if done % 10 == 0:
                print(f"{seen} of {done} noticed ({100 * seen / done:.0f}%)", flush=True)
    print(f"{seen} of {count} mutants noticed: {100 * seen / count:.0f}%")


if __name__ == "__main__":
    main(sys.argv[1:])
