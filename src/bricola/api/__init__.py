"""The documents of the management API: what each answer holds, by name and type.

The server declares its routes with them, the OpenAPI document and the console's types are made from them, and the client library says that
it returns them. They are plain dictionaries when the program runs. Moments are ISO 8601 texts in UTC unless said otherwise; `seconds`
since 1970 where a number stands.
"""
