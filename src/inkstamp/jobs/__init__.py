"""What a command does: a room for each stage of a certificate's life. They print nothing."""
