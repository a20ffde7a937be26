"""The keys, for the list under F1."""

KEYS = (
    ("Esc", "halt while Tall Grain moves the printer; otherwise close what is open"),
    ("F5", "the one next step"),
    ("F6", "plan points"),
    ("F7", "resume the broken-off survey that is shown"),
    ("F8", "break off: finish this touch, raise, stop"),
    ("F9, F12", "hands in, hands clear"),
    ("Ctrl+Enter", "take the clearance that you typed"),
    ("Ctrl+K", "find a command"),
    ("Ctrl+1 … 0", "the stations"),
    ("H, D, F, R, N", "layers: heights, difference, first layer, relief, points"),
    ("X, Y, K", "section along a row, along a column; keep this survey in it"),
    ("Shift+F5", "survey twice and compare"),
    ("L, S, Z, 0", "pin the scale, section, next corner, whole plate"),
    ("Field: arrows, + −", "walk the points, zoom"),
    ("Relief: arrows, + −, 0", "turn, exaggerate, as at first"),
    ("Gap: PgDn PgUp, 1 … 5", "step under the gauge, choose the step"),
    ("Gap: F, G, S, M, ⌫", "slides free, grips, stuck; to the middle; take the feel back"),
    ("Adjusters: T, PgDn, U", "turned as told, next screw, from above or under"),
    ("Strip: ← →, Enter", "walk the season, show a survey"),
    ("Strip: A, B, E", "pin A, pin B, note an event"),
)
