"""Testing the way to a backend, one stage after the other, so that the first that fails names the cause.

The stages: the name resolves, the address is reachable, TLS, signed on, version, allowed, a sample is read. What
does not apply to a kind of backend is skipped and says so; what comes after a failure is not tried.
"""

from bricola.adapters.stages import STAGES, Checker, Stage, run


async def check_endpoint(checker: Checker) -> list[Stage]:
    """All stages of one endpoint, in order. Never raises for what a backend does."""
    stages: list[Stage] = []
    failed = False
    try:
        for name, step in zip(STAGES, checker.steps(), strict=True):
            if failed:
                stages.append(Stage(name, "not tried"))
                continue
            stage = await run(name, step)
            failed = stage.outcome == "failed"
            stages.append(stage)
    finally:
        await checker.close()
    return stages
