-- +goose Up
update runs set plan = replace(plan, '"half":"', '"phase":"') where plan like '%"half":"%';
update journal set body = replace(body, '"half":"', '"phase":"') where body like '%"half":"%';

-- +goose Down
update runs set plan = replace(plan, '"phase":"', '"half":"');
update journal set body = replace(body, '"phase":"', '"half":"');
