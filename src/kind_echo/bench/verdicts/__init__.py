"""What a cell keeps of its verdict: the facts, the sentence made of them, and what lists and trends are drawn from."""

from kind_echo.bench.verdicts.keeping import forget_verdict, give_up_cell, keep_verdict

__all__ = ["forget_verdict", "give_up_cell", "keep_verdict"]
