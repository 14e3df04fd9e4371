"""The linear algebra of every estimator: QR, batched Cholesky, covariances, windows, bootstrap draws."""
