/* Asks libsepol, the reference implementation, what lines on standard input ask, and prints an answer a line.
 *
 *   cc judge.c -l:libsepol.a && ./a.out POLICY < questions
 *
 *   c CONTEXT            -> its number, or -
 *   b NAME 0|1           -> 0, or - if there is no such boolean
 *   a S T CLASS ASKED    -> allowed, logged, reasons (1 rules, 2 constraints, 4 roles, 8 bounds)
 *   r S T CLASS ASKED    -> the same, and the constraints that deny, in libsepol's words
 *   t S T CLASS          -> the label of something new, or -
 *   v OLD NEW TASK CLASS -> 1 if the label may be changed so, else 0
 *   u FSTYPE             -> behaviour and label
 *   g FSTYPE CLASS PATH  -> the label by path, or -
 * S, T and their like are numbers of contexts; CLASS is a number; masks are hexadecimal.
 */
#include <sepol/policydb/conditional.h>
#include <sepol/policydb/policydb.h>
#include <sepol/policydb/services.h>
#include <sepol/policydb/sidtab.h>
#include <sepol/sepol.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static policydb_t policy;
static sidtab_t sids;

static void label(sepol_security_id_t sid)
{
	sepol_security_context_t text;
	size_t length;

	if (sepol_sid_to_context(sid, &text, &length)) {
		puts("-");
		return;
	}
	puts(text);
	free(text);
}

static void one_line(char *text)
{
	for (; text && *text; text++)
		if (*text == '\n')
			*text = '\t';
}

static void vector(const char *line, int reasons)
{
	unsigned s, t, class, asked, why = 0;
	struct sepol_av_decision answer;
	char *text = NULL;
	int failed;

	if (sscanf(line, "%u %u %u %x", &s, &t, &class, &asked) != 4)
		exit(3);
	failed = reasons ? sepol_compute_av_reason_buffer(s, t, class, asked, &answer, &why, &text, 0)
			 : sepol_compute_av_reason(s, t, class, asked, &answer, &why);
	if (failed) {
		puts("-");
		return;
	}
	printf("%x %x %u", answer.allowed, answer.auditdeny, why);
	if (reasons) {
		one_line(text);
		printf("\t%s", text ? text : "");
		free(text);
	}
	putchar('\n');
}

static void boolean(char *name)
{
	char *state = strchr(name, ' ');
	cond_bool_datum_t *found;

	*state++ = 0;
	found = hashtab_search(policy.p_bools.table, name);
	if (!found) {
		puts("-");
		return;
	}
	found->state = *state == '1';
	evaluate_conds(&policy);
	puts("0");
}

static void answer(char *line)
{
	unsigned a, b, c, d;
	sepol_security_id_t sid;
	char name[256], *text = NULL;
	int path;

	switch (line[0]) {
	case 'c':
		if (sepol_context_to_sid(line + 2, strlen(line + 2) + 1, &sid))
			puts("-");
		else
			printf("%u\n", sid);
		break;
	case 'b':
		boolean(line + 2);
		break;
	case 'a':
	case 'r':
		vector(line + 2, line[0] == 'r');
		break;
	case 't':
		if (sscanf(line + 2, "%u %u %u", &a, &b, &c) != 3)
			exit(3);
		if (sepol_transition_sid(a, b, c, &sid))
			puts("-");
		else
			label(sid);
		break;
	case 'v':
		if (sscanf(line + 2, "%u %u %u %u", &a, &b, &c, &d) != 4)
			exit(3);
		printf("%d\n", sepol_validate_transition_reason_buffer(a, b, c, d, &text, 0) == 0);
		free(text);
		break;
	case 'u':
		if (sepol_fs_use(line + 2, &a, &sid))
			puts("-");
		else {
			printf("%u ", a);
			label(sid);
		}
		break;
	case 'g':
		if (sscanf(line + 2, "%255s %u %n", name, &c, &path) != 2)
			exit(3);
		if (sepol_genfs_sid(name, line + 2 + path, c, &sid))
			puts("-");
		else
			label(sid);
		break;
	default:
		exit(3);
	}
}

int main(int count, char **words)
{
	struct policy_file file;
	FILE *open = count == 2 ? fopen(words[1], "rb") : NULL;
	char *line = NULL;
	size_t size = 0;
	ssize_t length;

	if (!open)
		return 2;
	sepol_debug(0);
	policy_file_init(&file);
	file.type = PF_USE_STDIO;
	file.fp = open;
	if (policydb_init(&policy) || policydb_read(&policy, &file, 0) || policydb_load_isids(&policy, &sids))
		return 2;
	sepol_set_policydb(&policy);
	sepol_set_sidtab(&sids);
	while ((length = getline(&line, &size, stdin)) > 0) {
		if (line[length - 1] == '\n')
			line[length - 1] = 0;
		answer(line);
	}
	return 0;
}
