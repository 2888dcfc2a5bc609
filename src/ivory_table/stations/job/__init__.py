"""A job made elsewhere, held against a machine as it stands, compared with another, and mended."""
