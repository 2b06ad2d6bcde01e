"""The way out: what is fetched from elsewhere, with limits, and from no address of the house's own network unless that is allowed."""
