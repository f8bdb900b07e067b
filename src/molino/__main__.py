"""`python -m molino`, the same as the command `molino`."""

from molino.desk.cli import main

main()
