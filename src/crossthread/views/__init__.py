"""What is there, without judgement: the map, the way of a packet, a tree, a VLAN, who reaches whom."""
