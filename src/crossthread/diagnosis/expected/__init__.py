"""What settings most likely should be: who has a say, and how they vote."""
