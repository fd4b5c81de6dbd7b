"""The servers and sites there are, and what they serve. Changes nothing."""
