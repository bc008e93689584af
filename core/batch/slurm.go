package batch

import (
	"bytes"
	"context"
	"fernladder/core/shell"
	"fmt"
	"os/exec"
	"regexp"
	"slices"
	"strings"
)

// Slurm is a scheduler of that kind, from 20.11 on, by its own commands: sbatch(1),
// squeue(1), scontrol(1) and scancel(1). Its fields are what a site wants to know of jobs;
// "" for what it does not.
type Slurm struct {
	Partition, Account, QoS, Constraint string
}

// Refused is the error where the scheduler does not do what it is asked for.
type Refused struct{ Command, Said string }

func (e *Refused) Error() string { return e.Command + " refuses: " + e.Said }

// Absent is the error for a machine on which jobs cannot be submitted.
type Absent struct{ Command string }

func (e *Absent) Error() string {
	return "the program " + e.Command + " is not on this machine, so no jobs can be submitted here"
}

func (Slurm) run(ctx context.Context, stdin string, argv ...string) (string, error) {
	path, err := exec.LookPath(argv[0])
	if err != nil {
		return "", &Absent{argv[0]}
	}
	c := exec.CommandContext(ctx, path, argv[1:]...)
	var out, said bytes.Buffer
	c.Stdin, c.Stdout, c.Stderr = strings.NewReader(stdin), &out, &said
	if err := c.Run(); err != nil {
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		line, _, _ := strings.Cut(strings.TrimSpace(said.String()), "\n")
		if line == "" {
			line = err.Error()
		}
		return "", &Refused{argv[0], strings.TrimPrefix(line, argv[0]+": error: ")}
	}
	return out.String(), nil
}

var jobNumber = regexp.MustCompile(`^[0-9]+$`)

// Submit hands a job over. A job whose needs fail is ended at once: without being told to,
// the scheduler lets it wait for ever.
func (s Slurm) Submit(ctx context.Context, j Job) (string, error) {
	argv := []string{"sbatch", "--parsable", "--job-name=" + j.Name, "--chdir=" + j.Dir, "--output=" + strings.ReplaceAll(j.Output, "%", "%%"), "--export=NIL", "--no-requeue", "--nodes=1", "--ntasks=1",
		fmt.Sprintf("--cpus-per-task=%d", j.Processors), fmt.Sprintf("--mem=%dM", j.Memory), fmt.Sprintf("--time=%d", j.Minutes)}
	for flag, value := range map[string]string{"--partition=": s.Partition, "--account=": s.Account, "--qos=": s.QoS, "--constraint=": s.Constraint} {
		if value != "" {
			argv = append(argv, flag+value)
		}
	}
	if len(j.After) > 0 {
		argv = append(argv, "--dependency=afterok:"+strings.Join(j.After, ":"), "--kill-on-invalid-dep=yes")
	}
	if j.Held {
		argv = append(argv, "--hold")
	}
	out, err := s.run(ctx, "#!/bin/sh\nexec "+shell.Command(j.Command)+"\n", argv...)
	if err != nil {
		return "", err
	}
	id, _, _ := strings.Cut(strings.TrimSpace(out), ";") // JOB[;CLUSTER]
	if !jobNumber.MatchString(id) {
		return "", &Refused{"sbatch", fmt.Sprintf("it has answered %q, which is no number of a job", out)}
	}
	return id, nil
}

// Release lets jobs run.
func (s Slurm) Release(ctx context.Context, ids []string) error {
	if len(ids) == 0 {
		return nil
	}
	_, err := s.run(ctx, "", "scontrol", "release", strings.Join(ids, ","))
	return err
}

// slurmStates are the scheduler's words (squeue(1), job state codes).
var slurmStates = map[string]State{"PENDING": Waiting, "CONFIGURING": Waiting, "REQUEUED": Waiting, "REQUEUE_HOLD": Waiting, "SUSPENDED": Running, "RUNNING": Running, "COMPLETING": Running, "STAGE_OUT": Running, "SIGNALING": Running, "STOPPED": Running,
	"COMPLETED": Done, "FAILED": Failed, "CANCELLED": Cancelled, "OUT_OF_MEMORY": OutOfMemory, "TIMEOUT": TimedOut, "DEADLINE": TimedOut, "NODE_FAIL": Lost, "BOOT_FAIL": Lost, "PREEMPTED": Lost, "REVOKED": Lost}

// Look asks about all jobs of this user, for about one that is forgotten the scheduler
// answers with an error.
func (s Slurm) Look(ctx context.Context, ids []string) (map[string]Status, error) {
	out, err := s.run(ctx, "", "squeue", "--noheader", "--states=all", "--me", "--format=%i|%T|%N|%r")
	if err != nil {
		return nil, err
	}
	all := map[string]Status{}
	for line := range strings.Lines(out) {
		fields := strings.Split(strings.TrimSpace(line), "|")
		if len(fields) != 4 || !slices.Contains(ids, fields[0]) {
			continue
		}
		state, known := slurmStates[fields[1]]
		if !known {
			state = Failed
		}
		all[fields[0]] = Status{state, fields[2], fields[3]}
	}
	return all, nil
}

// Cancel ends jobs. What is no number is left out: it could mean others.
func (s Slurm) Cancel(ctx context.Context, ids []string) error {
	if ids = slices.DeleteFunc(slices.Clone(ids), func(id string) bool { return !jobNumber.MatchString(id) }); len(ids) == 0 {
		return nil
	}
	_, err := s.run(ctx, "", append([]string{"scancel", "--quiet"}, ids...)...)
	return err
}
