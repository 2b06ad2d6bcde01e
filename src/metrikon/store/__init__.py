"""The store: tables, queries, migrations, files. Queries are functions on a connection; only the writer writes."""
