<?php

// As the office's, with providers of the gallery's own.

declare(strict_types=1);

$office = require __DIR__ . '/../../../office/laravel/config/app.php';
$framework = array_filter($office['providers'], static fn (string $provider): bool => str_starts_with($provider, 'Illuminate\\'));

return [
    'name' => 'gallery',
    'providers' => [...$framework, KeenLantern\Record\Illuminate\RecordingServiceProvider::class, ...Gallery\Laravel::$providers],
] + $office;
