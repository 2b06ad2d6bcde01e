"""The service: HTTP API, sign-in, and the console's files."""
