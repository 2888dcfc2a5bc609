"""A machine's manner taught by example: lines as a person sends them, replies as the machine gives them.

`words.toml` says what the stations need; `told` makes a template of lines, `heard` a pattern of replies, `teaching`
puts them together. Nothing here sends anything.
"""
