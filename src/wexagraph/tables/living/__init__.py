"""Tables that people work in: rows known by their keys, files changed where they have to be and nowhere else."""
