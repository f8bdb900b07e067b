"""Balances: written once as symbols, compiled to functions of plain numbers."""
