-- +goose Up
ALTER TABLE conduct RENAME TO device_states;

-- +goose Down
ALTER TABLE device_states RENAME TO conduct;
