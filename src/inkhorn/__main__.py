"""``python -m inkhorn`` is the command line."""

from inkhorn.cli import main

main()
