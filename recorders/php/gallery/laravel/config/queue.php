<?php

declare(strict_types=1);

return require __DIR__ . '/../../../office/laravel/config/queue.php';
