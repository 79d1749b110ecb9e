"""`python -m humble_ledger` is the program `humble`."""

from humble_ledger.cli.entry import main

if __name__ == "__main__":
    main()
