"""Try a change on a copy of a survey and see which pairs of hosts it mends and which it breaks.

python examples/try_a_change.py
"""

from crossthread import Change, Network, apply_changes, matrix
from crossthread.demo import faulty

survey = faulty()
changes = [
    Change("ports", {"device": "galley", "port": "port1"}, {"mode": "trunk", "pvid": "none", "allowed": "10-50"})
]

before = {(a, b): verdict for a, b, verdict in matrix(Network(survey)).reaches}
after = {(a, b): verdict for a, b, verdict in matrix(Network(apply_changes(survey, changes))).reaches}

for change in changes:
    print(change)
mended = [pair for pair in before if before[pair] != "works" and after[pair] == "works"]
broken = [pair for pair in before if before[pair] == "works" and after[pair] != "works"]
print(f"{len(mended)} pairs mended, {len(broken)} broken.")
for a, b in mended:
    print(f"  {a} now reaches {b}")
