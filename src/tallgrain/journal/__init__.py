"""What was observed and decided about a printer: a typed record for each topic, over the ledger."""
