"""Standing orders: kept, run when they are due, watched for, told of."""
