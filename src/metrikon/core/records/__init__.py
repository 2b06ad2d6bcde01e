"""Record types, records, evidence, checks and findings."""
