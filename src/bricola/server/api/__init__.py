"""The management API under /api/v1: thin routes over `usecases`. Problems are RFC 9457 documents."""
