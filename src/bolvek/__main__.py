"""`python -m bolvek`."""

from bolvek.cli.main import main

if __name__ == "__main__":
    main()
