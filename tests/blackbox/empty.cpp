int x_unused();
