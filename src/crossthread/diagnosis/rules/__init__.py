"""The rules: one module for each family of findings, one function for each finding.

A rule looks at one subject and returns a finding or None. Its docstring says what the finding means, why it matters and
how to confirm it by hand.
"""
