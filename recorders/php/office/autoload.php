<?php

declare(strict_types=1);

require_once __DIR__ . '/../tests/bootstrap.php';

spl_autoload_register(static function (string $class): void {
    $file = __DIR__ . '/src/' . str_replace('\\', '/', substr($class, strlen('Saltmarsh\\Office\\'))) . '.php';
    if (str_starts_with($class, 'Saltmarsh\\Office\\') && is_file($file)) {
        require $file;
    }
});
