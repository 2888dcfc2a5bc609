"""The manner of each machine: taught by example, kept in versions, carried as files, proved word by word."""
