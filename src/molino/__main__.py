"""`python -m molino`, the same as the command `molino`."""

from molino.desk.cli import main

if __name__ == "__main__":
    main()
