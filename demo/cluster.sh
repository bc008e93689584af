#!/bin/sh
# cluster.sh start DIR | stop DIR: a batch scheduler of three nodes on this machine, Slurm
# from Debian's packages (slurmctld, slurmd, slurm-client, munge), all of it in DIR, which
# only root can start. What it prints are the lines by which a shell uses it.
set -eu
[ $# = 2 ] || { sed -n 2,4p "$0"; exit 2; }
mkdir -p "$2"
dir=$(cd "$2" && pwd)

ends() {
	for file in "$dir"/*.pid; do
		[ -s "$file" ] || continue
		kill "$(cat "$file")" 2>/dev/null || :
	done
	for file in "$dir"/*.pid; do
		for i in $(seq 50); do
			process=$(cat "$file" 2>/dev/null) && kill -0 "$process" 2>/dev/null || break
			sleep 0.1
		done
		[ -z "$process" ] || kill -9 "$process" 2>/dev/null || :
		rm -f "$file"
	done
}

case $1 in
stop) ends; exit ;;
start) ;;
*) sed -n 2,4p "$0"; exit 2 ;;
esac

for program in munged slurmctld slurmd sbatch; do
	command -v $program >/dev/null || PATH=$PATH:/usr/sbin command -v $program >/dev/null || { echo "cluster.sh: $program is not here (apt-get install slurmctld slurmd slurm-client munge)" >&2; exit 1; }
done
PATH=$PATH:/usr/sbin
ends
mkdir -p "$dir/state" "$dir/munge"
chmod 755 "$dir" && chmod 700 "$dir/munge" "$dir/state"
# Ports that nobody has: from one that the kernel gives out to nobody by itself.
port=$((20000 + $$ % 10000))
host=$(hostname -s)
processors=$(nproc)
memory=$(awk '/MemTotal/ {print int($2 / 1024 / 4)}' /proc/meminfo)
cat >"$dir/slurm.conf" <<END
ClusterName=vale
SlurmctldHost=$host(127.0.0.1)
SlurmctldPort=$port
SlurmUser=root
AuthType=auth/munge
AuthInfo=socket=$dir/munge/socket
CredType=cred/munge
StateSaveLocation=$dir/state
SlurmdSpoolDir=$dir/spool-%n
SlurmctldPidFile=$dir/slurmctld.pid
SlurmdPidFile=$dir/slurmd-%n.pid
SlurmctldLogFile=$dir/slurmctld.log
SlurmdLogFile=$dir/slurmd-%n.log
ProctrackType=proctrack/linuxproc
TaskPlugin=task/none
SelectType=select/cons_tres
SelectTypeParameters=CR_CPU_Memory
SchedulerParameters=batch_sched_delay=0
JobAcctGatherType=jobacct_gather/linux
JobAcctGatherFrequency=1
JobAcctGatherParams=OverMemoryKill
JobCompType=jobcomp/filetxt
JobCompLoc=$dir/jobs.txt
AccountingStorageType=accounting_storage/none
MpiDefault=none
ReturnToService=2
MinJobAge=60
KillWait=2
SlurmdTimeout=15
InactiveLimit=0
MailProg=/bin/true
END
for node in 1 2 3; do
	echo "NodeName=bed$node NodeHostname=$host NodeAddr=127.0.0.1 Port=$((port + node)) CPUs=$processors RealMemory=$memory State=UNKNOWN" >>"$dir/slurm.conf"
done
echo "PartitionName=beds Nodes=ALL Default=YES MaxTime=INFINITE State=UP" >>"$dir/slurm.conf"
export SLURM_CONF="$dir/slurm.conf"

dd if=/dev/urandom of="$dir/munge/key" bs=128 count=1 2>/dev/null
chmod 400 "$dir/munge/key"
munged --key-file="$dir/munge/key" --socket="$dir/munge/socket" --pid-file="$dir/munged.pid" --log-file="$dir/munge/log" --seed-file="$dir/munge/seed" --force >/dev/null 2>&1
chmod 711 "$dir/munge"
slurmctld >/dev/null 2>&1
for node in 1 2 3; do
	mkdir -p "$dir/spool-bed$node"
	slurmd -N bed$node >/dev/null 2>&1
done
for i in $(seq 100); do
	[ "$(sinfo -h -t idle -o %D 2>/dev/null)" = 3 ] && break
	[ "$i" -lt 100 ] || { echo "cluster.sh: the nodes do not come up; see the logs in $dir" >&2; ends; exit 1; }
	sleep 0.1
done
echo "export SLURM_CONF='$SLURM_CONF'"
