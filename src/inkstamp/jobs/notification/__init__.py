"""What people and monitoring are told after a run. Decides nothing."""
