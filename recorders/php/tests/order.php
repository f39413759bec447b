<?php

// A service that takes batches, and answers a recorder's question with the order that is in a file.

declare(strict_types=1);

header('Content-Type: application/json');
$folder = (string) getenv('ORDERS');
if (preg_match('#^/api/v1/streams/([0-9a-f]+)/batches/(\d+)$#', $_SERVER['REQUEST_URI'], $match)) {
    file_put_contents("$folder/taken", gzdecode((string) file_get_contents('php://input')), FILE_APPEND);
    echo json_encode(['stream' => $match[1], 'batch' => (int) $match[2]]);
    return;
}
file_put_contents("$folder/asked", file_get_contents('php://input') . "\n", FILE_APPEND);
readfile("$folder/order");
