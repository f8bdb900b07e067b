"""The terms of balances, and the models of vessels."""
