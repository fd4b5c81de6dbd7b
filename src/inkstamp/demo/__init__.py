"""The whole job in a simulated world, shown as one would type it."""
