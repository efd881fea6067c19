"""Answers as pictures."""
