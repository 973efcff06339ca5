"""Tables of SQL databases: PostgreSQL through its own protocol, SQLite and DuckDB files. Nothing is ever written."""
