"""Turn the links of a network into a pandas data frame: one row for each cable.

python examples/links_to_frame.py [SURVEY]
"""

import sys

import pandas as pd

from crossthread import Network, map_network, read_survey
from crossthread.demo import healthy

survey = read_survey(sys.argv[1]) if len(sys.argv) > 1 else healthy()
links = pd.DataFrame(
    {
        "from": link.a.device,
        "from_port": link.a.port,
        "to": link.b.device,
        "to_port": link.b.port,
        "state": link.state,
        "told_by": link.told_by,
    }
    for link in map_network(Network(survey)).links
)
print(links.to_string(index=False))
print()
print("Cables per device:")
print(pd.concat([links["from"], links["to"]]).value_counts().to_string())
