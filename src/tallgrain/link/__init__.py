"""Talking to a printer: one small protocol, its JSON-RPC client, the guard."""
