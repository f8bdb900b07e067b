"""The Valdeoro mill: an invented example, its data and the script that made them."""
