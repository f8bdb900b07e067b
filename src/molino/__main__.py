"""`python -m molino`, the same as the command `molino`."""

import sys


def main() -> None:
    """Run the command; Ctrl-C while it is loaded is reported as well."""
    try:
        from molino.desk.cli import main as run
    except KeyboardInterrupt:
        print("interrupted", file=sys.stderr)
        sys.exit(130)
    run()


if __name__ == "__main__":
    main()
