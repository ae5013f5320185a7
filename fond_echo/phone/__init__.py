"""Phone channels: calls carried over sockets, by the machines of core/telephony."""
