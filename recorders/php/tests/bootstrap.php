<?php

declare(strict_types=1);

// Packagist is not needed: what is tested with comes from the system's packages, which have autoloaders of their own.
spl_autoload_register(static function (string $class): void {
    foreach (['KeenLantern\\Record\\Tests\\' => __DIR__ . '/', 'KeenLantern\\Record\\' => __DIR__ . '/../src/'] as $prefix => $folder) {
        if (str_starts_with($class, $prefix)) {
            $file = $folder . str_replace('\\', '/', substr($class, strlen($prefix))) . '.php';
            if (is_file($file)) {
                require $file;
            }
            return;
        }
    }
});
$libraries = [
    'Psr/Container', 'Pimple', 'Illuminate/Container', 'Symfony/Component/Config', 'Symfony/Component/DependencyInjection', 'Symfony/Contracts/Service',
];
foreach ($libraries as $library) {
    require_once "/usr/share/php/$library/autoload.php";
}
require_once __DIR__ . '/Harbour/parts.php';
