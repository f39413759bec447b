<?php

return ['paths' => [], 'compiled' => sys_get_temp_dir()];
