<?php

declare(strict_types=1);

require_once __DIR__ . '/../tests/bootstrap.php';
require_once __DIR__ . '/src/parts.php';
require_once __DIR__ . '/src/Container.php';
require_once __DIR__ . '/src/Office.php';
