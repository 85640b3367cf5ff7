"""`python -m rilievo` is the command `rilievo`; see `cli`."""

from rilievo.cli import main

if __name__ == "__main__":
    main()
