<?php

declare(strict_types=1);

require_once __DIR__ . '/../tests/bootstrap.php';

spl_autoload_register(static function (string $class): void {
    if (str_starts_with($class, 'Saltmarsh\\Office\\')) {
        require __DIR__ . '/src/' . str_replace('\\', '/', substr($class, strlen('Saltmarsh\\Office\\'))) . '.php';
    }
});
