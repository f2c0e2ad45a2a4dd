# What the compiled modules share.

cdef int _needs(bint fits, str what) except -1:
    if not fits:
        raise ValueError(f"{what} do not fit together")
    return 0
