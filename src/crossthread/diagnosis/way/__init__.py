"""The way of an echo and its reply: what they meet, where they stop and why, what could still stop them."""
