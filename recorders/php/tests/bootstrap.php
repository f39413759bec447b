<?php

declare(strict_types=1);

// Packagist is not needed: what is tested with comes from the system's packages, which have their own autoloaders.
spl_autoload_register(static function (string $class): void {
    if (!str_starts_with($class, 'KeenLantern\\Record\\')) {
        return;
    }
    $name = str_replace('\\', '/', substr($class, strlen('KeenLantern\\Record\\')));
    // As by a class map of Composer's, the file system is not asked whether there is such a file.
    require str_starts_with($name, 'Tests/') ? __DIR__ . substr($name, strlen('Tests')) . '.php' : __DIR__ . "/../src/$name.php";
});
$libraries = [
    'Psr/Container', 'Pimple', 'Illuminate/Container', 'Symfony/Component/Config', 'Symfony/Component/DependencyInjection', 'Symfony/Contracts/Service',
];
foreach ($libraries as $library) {
    require_once "/usr/share/php/$library/autoload.php";
}
require_once __DIR__ . '/Harbour/parts.php';
