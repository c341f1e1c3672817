"""The signature: what a program says it accepts, the judgement on vectors, and the families of
vectors that follow."""
