"""Facts in words: the one place where figures, conditions, causes, verdicts and cells of a table become text.

Nothing reads a sentence back: whoever needs the fact has the fact.
"""
