# cython: language_level=3
"""What the processor that this runs on can do."""

cdef extern from *:
    """
    #if defined(__x86_64__) && defined(__GNUC__)
    static int is_wide_here(void) {
        __builtin_cpu_init();
        return __builtin_cpu_supports("avx2") && __builtin_cpu_supports("fma") && __builtin_cpu_supports("bmi2");
    }
    #else
    static int is_wide_here(void) { return 0; }
    #endif
    """
    int is_wide_here() noexcept


def is_wide() -> bool:
    """Whether it has the instructions of an x86-64 processor of 2013 and later (x86-64-v3)."""
    return bool(is_wide_here())
