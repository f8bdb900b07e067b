"""The terms of balances, and the models that they add up to."""
