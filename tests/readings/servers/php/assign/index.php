<?php echo "CLOSED";
