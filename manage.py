"""Django's usual entry point; `./tally` calls it."""

from wise_tally.__main__ import main

if __name__ == "__main__":
    main()
