"""Hosts and gateway interfaces: where they are attached, who answers for which address, which are alike."""
