"""Answers in the terminal: the answer in the first line, the evidence under it."""
