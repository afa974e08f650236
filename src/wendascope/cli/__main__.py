"""`python -m wendascope.cli`."""

from wendascope.cli import main

main()
