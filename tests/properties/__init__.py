"""What holds for every public function whatever the layout of its input."""
