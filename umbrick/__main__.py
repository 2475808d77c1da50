"""``python -m umbrick``: the same as the ``umbrick`` executable."""

from umbrick.cli import main

if __name__ == "__main__":
    main()
