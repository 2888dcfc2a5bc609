"""The rules of the job and its computation. No clock, no web, no files but its own tables.

Frame, everywhere inside: millimetres; x to the right, y to the back, z up; origin at the
plate's front left corner, at the centre of a round plate. `height` is positive where the
plate is high (gap small); `gap` is positive clearance; `shift` is positive away from the
plate; a `turn` is positive clockwise seen from above.
"""
