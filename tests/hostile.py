"""Texts that mean harm wherever they are taken for more than text."""

TEXTS = (
    "</script><script>window.hit=1</script>",
    "<img src=x onerror=window.hit=1>",
    "\"><svg onload=window.hit=1>",
    "=cmd|' /C calc'!A0",
    "+1+1",
    "-2+3",
    "@SUM(A1)",
    "javascript:window.hit=1",
    "[click](javascript:window.hit=1) ![x](http://127.0.0.1/x.png)",
    "{{7*7}} ${window.hit=1} `x`",
    "$\\frac{1}{2}$ | ` | * _ # ~",
    "<!--",
    "]]>",
    "a\u2028b",
    "Ωμ 庭 😀",
)
