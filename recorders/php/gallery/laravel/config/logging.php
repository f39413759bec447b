<?php

return ['default' => 'errorlog', 'channels' => ['errorlog' => ['driver' => 'errorlog', 'level' => 'critical']]];
