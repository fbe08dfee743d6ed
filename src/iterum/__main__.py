"""`python -m iterum` is the command `iterum`."""

from iterum.cli import main

main()
