<?php

return ['default' => 'memory', 'connections' => ['memory' => ['driver' => 'memory', 'queue' => 'default']], 'failed' => ['driver' => 'null']];
