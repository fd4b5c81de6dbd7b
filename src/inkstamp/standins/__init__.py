"""The simulated world: imported by the demo and the tests alone."""
