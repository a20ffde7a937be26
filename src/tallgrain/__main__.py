"""python -m tallgrain."""

from tallgrain.cli import main

main()
