"""Cross Thread: finds why hosts on a campus switched network cannot reach each other."""
