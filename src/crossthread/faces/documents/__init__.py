"""Answers as documents and for other programs: tables, JSON, graph formats."""
