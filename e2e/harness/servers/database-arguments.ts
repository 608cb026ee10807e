/** A MariaDB of the tests writes to the system at each commit, not to the disk, and has no large log to lay out. */
export const testArguments = ['--innodb-flush-log-at-trx-commit=2', '--innodb-log-file-size=32M', '--skip-log-bin']
