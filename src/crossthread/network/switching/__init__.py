"""Where a frame in a VLAN gets to: what ports do with VLANs, and what is connected by them."""
