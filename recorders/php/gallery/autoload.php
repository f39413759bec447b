<?php

declare(strict_types=1);

require_once __DIR__ . '/../office/autoload.php';
require_once '/usr/share/php/Illuminate/autoload.php';
foreach (['Config', 'DependencyInjection', 'EventDispatcher', 'HttpFoundation', 'HttpKernel', 'Routing'] as $component) {
    require_once "/usr/share/php/Symfony/Component/$component/autoload.php";
}

spl_autoload_register(static function (string $class): void {
    if (str_starts_with($class, 'Gallery\\')) {
        require __DIR__ . '/src/' . str_replace('\\', '/', substr($class, strlen('Gallery\\'))) . '.php';
    }
});
