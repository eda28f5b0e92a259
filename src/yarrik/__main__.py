"""Lets `python -m yarrik` do what `yarrik` does."""

from yarrik.cli import main

if __name__ == "__main__":
    main()
