"""The Handover station."""
