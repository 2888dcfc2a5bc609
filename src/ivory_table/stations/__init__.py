"""The use cases, one module per station: read the store, call the core, write the store."""
