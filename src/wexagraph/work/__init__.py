"""Running pure functions elsewhere, with limits of time: in processes of this machine, or on a cluster.

Whatever runs there takes plain values and gives plain values back; only where the workers see the same disk
(`sees_disk`) may it read or write files.
"""
