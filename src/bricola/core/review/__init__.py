"""The readiness review: everything that stands between a draft and a sound deployment, in one list.

Errors stop a release or a deployment, warnings and hints do not. Only what concerns the service is reviewed.
"""

from bricola.core.review.findings import RULES, CredentialFact, Facts, Finding, PoolFact, Rule, Severity
from bricola.core.review.run import review

__all__ = ["RULES", "CredentialFact", "Facts", "Finding", "PoolFact", "Rule", "Severity", "review"]
