"""Answers made visible: from the questions' plain data to a terminal or to JSON."""
