package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"jardin/app"
)

func backupCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "backup FILE",
		Short: "Save shots, treatments and artifacts in one archive; the server may be at work",
		Args:  cobra.ExactArgs(1),
	}
	set := settings(c)
	plates := c.Flags().Bool("plates", false, "also the plates: without them they are brought in again after a restore")
	c.RunE = func(c *cobra.Command, args []string) error {
		if err := app.Backup(c.Context(), *set, args[0], *plates); err != nil {
			return err
		}
		fmt.Println("Saved", args[0])
		return nil
	}
	return c
}

func restoreCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "restore FILE",
		Short: "Put a backup in place of what a data folder holds; stop the server first",
		Args:  cobra.ExactArgs(1),
	}
	set := settings(c)
	replace := c.Flags().Bool("replace", false, "also if there are shots, which are lost then")
	c.RunE = func(c *cobra.Command, args []string) error {
		if err := app.Restore(c.Context(), *set, args[0], *replace); err != nil {
			return err
		}
		fmt.Println("Restored", args[0])
		return nil
	}
	return c
}
