"""The verbs, one module each: they return results and findings, and print nothing."""
