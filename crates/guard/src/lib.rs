//! The guard: terminates device TLS, checks identity and policy, and passes MQTT on to a broker.
