"""What was intended: the plan, as a person writes it."""

from crossthread.plan.plan import Plan
from crossthread.plan.reading import read_plan

__all__ = ["Plan", "read_plan"]
