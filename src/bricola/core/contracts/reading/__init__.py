"""Reading contracts of others: WSDL 1.1 (W3C Note, 15 March 2001) and XML Schema 1.0, however they were written and in how many parts."""
