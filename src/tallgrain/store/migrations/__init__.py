"""Alembic's scripts for the ledger."""
