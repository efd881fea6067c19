"""Read a survey, ask why one host does not reach another, and print the faults and the mend.

    python examples/ask_why.py [SURVEY A B]

Without arguments it asks about the demo campus.
"""

import sys

from crossthread import Network, read_survey, why
from crossthread.demo import faulty

if len(sys.argv) == 4:
    survey, source, target = read_survey(sys.argv[1]), sys.argv[2], sys.argv[3]
else:
    survey, source, target = faulty(), "foghorn-exhibit", "camera-recorder"

answer = why(Network(survey), source, target)
print(f"{answer.source} to {answer.target}: {answer.verdict}")
for finding in answer.findings:
    print(f"- {finding.rule}: {finding.says}")
for change in answer.repair:
    print(f"  mend {change}")
print("The mend was tried out on a copy and works." if answer.repair_proven else "No mend could be proven.")
