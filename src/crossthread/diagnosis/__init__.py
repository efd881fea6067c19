"""What is wrong, why, and what to do about it."""
