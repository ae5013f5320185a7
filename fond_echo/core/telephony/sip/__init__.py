"""SIP: messages, transactions, dialogs, registrations and calls, without sockets."""
