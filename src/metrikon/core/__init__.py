"""The pure heart: documents, values, records, extraction, expressions and flows."""
