package command
