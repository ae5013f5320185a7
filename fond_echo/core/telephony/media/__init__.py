"""The sound of calls: RTP, RTCP, keys, uneven arrival, quality, without sockets."""
