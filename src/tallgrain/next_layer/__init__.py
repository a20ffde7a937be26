"""The first layer that the next print would get, from all that the ledger knows of a printer."""
