CREATE INDEX call_by_operation ON call (service, operation, caller, at);
