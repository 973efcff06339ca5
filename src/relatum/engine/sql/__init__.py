"""The SQL engine: the same plans as queries for a database that holds the data."""
