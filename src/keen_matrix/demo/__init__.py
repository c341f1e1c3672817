"""The sample ferry office: three small programs, sound and faulty, with specs that tell them
apart."""
