"""`python -m zembrel` is the command line."""

from zembrel.cli import main

if __name__ == "__main__":
    main()
