"""Questions to a network; each answer is plain data."""
