package cluster

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"fernladder/core/pattern"
	"fernladder/core/problem"
	"fernladder/core/subprocess"
)

// slurm is that scheduler, from 20.11 on, through its own commands: sbatch(1), squeue(1),
// scontrol(1) and scancel(1). Its fields are what a site requires for jobs; "" if nothing.
type slurm struct {
	Partition, Account, QoS, Constraint string
}

// silence matches what the commands print if they cannot reach a controller.
var silence = pattern.New(`(?i)unable to contact|connection (refused|timed out|reset)|socket timed out` +
	`|zero bytes were transmitted|controller is not responding|communication connection failure|no route to host` +
	`|in standby mode`)

func (slurm) run(ctx context.Context, stdin string, argv ...string) (string, error) {
	path, err := exec.LookPath(argv[0])
	if err != nil {
		return "", problem.New(problem.Host, argv[0],
			"the program %s is not on this machine, so jobs cannot be submitted here", argv[0]).Coded(Absent)
	}
	const longest = time.Minute // that a controller may not answer
	out, said, err := subprocess.Command{Argv: append([]string{path}, argv[1:]...), Env: os.Environ(),
		Stdin: strings.NewReader(stdin), Longest: longest}.Text(ctx)
	if err != nil {
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		if errors.As(err, new(*subprocess.Exceeded)) {
			return "", silent(argv[0], "no answer for "+longest.String())
		}
		line, _, _ := strings.Cut(strings.TrimSpace(said), "\n")
		if line == "" {
			line = err.Error()
		}
		if silence.MatchString(said) {
			return "", silent(argv[0], strings.TrimPrefix(line, argv[0]+": error: "))
		}
		return "", refused(argv[0], strings.TrimPrefix(line, argv[0]+": error: "))
	}
	return out, nil
}

var jobNumber = pattern.New(`^[0-9]+$`)

// Submit submits a job. A job whose needs fail is ended at once: by default, the scheduler would
// let it wait forever.
func (s slurm) Submit(ctx context.Context, j batchJob) (string, error) {
	argv := []string{"sbatch", "--parsable", "--job-name=" + j.Name, "--chdir=" + j.Dir, "--output=" +
		strings.ReplaceAll(j.Output, "%", "%%"), "--export=NIL", "--no-requeue", "--nodes=1", "--ntasks=1",
		fmt.Sprintf("--cpus-per-task=%d", j.Processors), fmt.Sprintf("--mem=%dM", j.Memory),
		fmt.Sprintf("--time=%d", j.Minutes)}
	for flag, value := range map[string]string{"--partition=": s.Partition, "--account=": s.Account, "--qos=": s.QoS,
		"--constraint=": s.Constraint} {
		if value != "" {
			argv = append(argv, flag+value)
		}
	}
	var after []string
	for kind, ids := range map[string][]string{"afterok:": j.After, "afterany:": j.Behind} {
		if len(ids) > 0 {
			after = append(after, kind+strings.Join(ids, ":"))
		}
	}
	if len(after) > 0 {
		slices.Sort(after)
		argv = append(argv, "--dependency="+strings.Join(after, ","), "--kill-on-invalid-dep=yes")
	}
	if len(j.Avoid) > 0 {
		argv = append(argv, "--exclude="+strings.Join(j.Avoid, ","))
	}
	if j.Held {
		argv = append(argv, "--hold")
	}
	script := "#!/bin/sh\n"
	for _, pair := range j.Environment {
		name, value, _ := strings.Cut(pair, "=")
		script += "export " + name + "=" + subprocess.CommandLine([]string{value}) + "\n"
	}
	out, err := s.run(ctx, script+"exec "+subprocess.CommandLine(j.Command)+"\n", argv...)
	if err != nil {
		return "", err
	}
	id, _, _ := strings.Cut(strings.TrimSpace(out), ";") // JOB[;CLUSTER]
	if !jobNumber.MatchString(id) {
		return "", refused("sbatch", fmt.Sprintf("it answered %q, which is not a job number", out))
	}
	return id, nil
}

// Release lets jobs run, in order.
func (s slurm) Release(ctx context.Context, ids []string) error {
	for some := range slices.Chunk(ids, 1000) { // command lines have an end
		if _, err := s.run(ctx, "", "scontrol", "release", strings.Join(some, ",")); err != nil {
			return err
		}
	}
	return nil
}

// slurmStates are the scheduler's words (squeue(1), job state codes).
var slurmStates = map[string]State{"PENDING": Queued, "CONFIGURING": Queued, "REQUEUED": Queued, "REQUEUE_HOLD": Queued,
	"SUSPENDED": Running, "RUNNING": Running, "COMPLETING": Running, "STAGE_OUT": Running, "SIGNALING": Running,
	"STOPPED":   Running,
	"COMPLETED": Finished, "FAILED": Failed, "CANCELLED": Cancelled, "OUT_OF_MEMORY": OutOfMemory, "TIMEOUT": TimedOut,
	"DEADLINE": TimedOut, "NODE_FAIL": Lost, "BOOT_FAIL": Lost, "PREEMPTED": Lost, "REVOKED": Lost}

// never are reasons that do not go away by waiting (squeue(1), job reason codes).
var never = []string{"BadConstraints", "PartitionNodeLimit", "PartitionTimeLimit", "InvalidAccount", "InvalidQOS",
	"AccountNotAllowed", "QOSNotAllowed", "DependencyNeverSatisfied"}

// Look asks about all jobs of this user, and selects those with a mark.
func (s slurm) Look(ctx context.Context, mark string) ([]Status, error) {
	out, err := s.run(ctx, "", "squeue", "--noheader", "--states=all", "--me", "--format=%i|%T|%N|%r|%j")
	if err != nil {
		return nil, err
	}
	var all []Status
	for line := range strings.Lines(out) {
		fields := strings.SplitN(strings.TrimSpace(line), "|", 5)
		if len(fields) != 5 || !jobNumber.MatchString(fields[0]) || !strings.HasPrefix(fields[4], mark) {
			continue
		}
		state, known := slurmStates[fields[1]]
		if !known { // a term of a newer scheduler: the job is checked again
			state, fields[3] = Queued, fields[1]
		}
		if state == Queued && slices.Contains(never, fields[3]) {
			state = Impossible
		}
		all = append(all, Status{ID: fields[0], Name: fields[4], State: state, Node: fields[2], Why: fields[3]})
	}
	return all, nil
}

// Cancel ends jobs. It leaves out names that are not numbers: they could mean other jobs.
func (s slurm) Cancel(ctx context.Context, ids []string) error {
	if ids = slices.DeleteFunc(slices.Clone(ids), func(id string) bool {
		return !jobNumber.MatchString(id)
	}); len(ids) == 0 {
		return nil
	}
	_, err := s.run(ctx, "", append([]string{"scancel", "--quiet"}, ids...)...)
	return err
}

// Avoid changes waiting jobs. A job that has started meanwhile cannot be changed, which is not
// an error.
func (s slurm) Avoid(ctx context.Context, ids, nodes []string) error {
	for _, id := range ids {
		_, err := s.run(ctx, "", "scontrol", "update", "JobId="+id, "ExcNodeList="+strings.Join(nodes, ","))
		if err != nil && !errors.Is(err, Refused) {
			return err
		}
	}
	return nil
}

// Room asks for the nodes of the partition that are up.
func (s slurm) Room(ctx context.Context, processors, memory int) (int, error) {
	argv := []string{"sinfo", "--noheader", "--Node", "--responding", "--states=idle,mixed,allocated", "--format=%c|%m"}
	if s.Partition != "" {
		argv = append(argv, "--partition="+s.Partition)
	}
	out, err := s.run(ctx, "", argv...)
	if err != nil {
		return 0, err
	}
	room := 0
	for line := range strings.Lines(out) {
		var has, mib int
		if n, _ := fmt.Sscanf(strings.TrimSpace(line), "%d|%d", &has, &mib); n == 2 && processors > 0 && memory > 0 {
			room += min(has/processors, mib/memory)
		}
	}
	return room, nil
}

// nodeName is the scheduler's name of the node on which the calling job runs.
func nodeName() string {
	if name := os.Getenv("SLURMD_NODENAME"); name != "" {
		return name
	}
	name, _ := os.Hostname()
	return name
}

// The problems of schedulers.
const (
	Refused problem.Code = "scheduler_refused" // it does not do as asked
	Silent  problem.Code = "scheduler_silent"  // its controller does not answer
	Absent  problem.Code = "no_scheduler"      // its programs are not on this machine
)

func refused(command, said string) error {
	return problem.New(problem.Host, command, "%s refuses: %s", command, said).Coded(Refused)
}

func silent(command, said string) error {
	return problem.New(problem.Host, command, "%s: the scheduler does not answer: %s", command, said).Coded(Silent)
}
