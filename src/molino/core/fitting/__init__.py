"""From data to rate law: experiments and regression on the balances."""
