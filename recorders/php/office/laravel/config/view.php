<?php

return ['paths' => [], 'compiled' => getenv('OFFICE_CACHE') ?: sys_get_temp_dir()];
