<?php

return ['default' => 'none', 'connections' => [], 'migrations' => 'migrations'];
