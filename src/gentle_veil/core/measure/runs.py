"""What is found frame by frame, and holds for a while."""

LEAST_RUN, LEAST_RUN_AT_ENDS = 5, 2  # frames, one of which may be missing


def steady_runs(near: list[bool]) -> list[bool]:
    """On which frames a rim is as ``near`` for a while: lips that are one colour more on some frames, and one less on
    others, are no rim. It may come at the shot's end."""
    out, i = [False] * len(near), 0
    while i < len(near):
        if not near[i]:
            i += 1
            continue
        end = i
        while end < len(near) and any(near[end : end + 2]):
            end += 1
        least = LEAST_RUN if i > 0 and end < len(near) else LEAST_RUN_AT_ENDS
        for j in range(i, end):
            out[j] = near[j] and end - i >= least
        i = end
    return out
