"""`python -m crossthread`: the installed command, where its place is not on the search path."""

from crossthread.cli import main

main()
