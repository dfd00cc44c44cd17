<?php echo "OTHER";
