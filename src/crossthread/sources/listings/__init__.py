"""What hosts, software switches and discovery daemons list of themselves."""
