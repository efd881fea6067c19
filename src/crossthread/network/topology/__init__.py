"""Which devices and ports there are, by all their names, and which of them are cabled to each other."""
