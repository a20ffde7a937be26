"""The ledger: models, migrations and queries."""
