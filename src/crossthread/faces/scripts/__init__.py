"""Repairs in forms that devices take."""
