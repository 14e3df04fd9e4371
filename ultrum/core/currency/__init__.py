"""Exchange-rate tables and currency conversion."""
