"""Pure calculation over the plan: numbers in, numbers and findings out."""
