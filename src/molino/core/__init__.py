"""The computing half of Molino: no file, no screen, no picture, no clock."""
