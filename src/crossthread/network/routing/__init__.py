"""What devices do with IP packets: routes, and the way of a packet."""
