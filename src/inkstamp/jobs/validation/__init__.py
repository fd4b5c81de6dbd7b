"""Domain control validation: challenge responses placed, tested from outside, removed. Knows no keys."""
