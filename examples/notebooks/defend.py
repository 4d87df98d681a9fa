# %% [markdown]
# # Defend a choice
# A set of features has been chosen. Is it as good as all of them, would another method choose it, is it stable, and does it still serve?

# %%
import chaff

lots = chaff.demo.lots(rows=400)
table = chaff.open_table(lots, "loaf_volume", ignore=["accepted", "grade", "crumb_score"], groups="mill")
run = chaff.select(table, plan="quick", state=False)
run.honest

# %% [markdown]
# ## The final model on rows that nobody has looked at

# %%
run.evaluate(state=False)

# %% [markdown]
# ## Other methods, on the same folds
# *all features* and *nothing* stand beside them.

# %%
compared = chaff.compare(table, ["spearman", "lasso", "forward"], sizes=[2, 4, 8, 12])
compared

# %%
compared.plot()

# %% [markdown]
# ## Would another sample of rows choose the same?

# %%
stable = chaff.stability(table, size=6, pairs=20)
stable.frame["selection_frequency"].sort_values(ascending=False).head(10)

# %% [markdown]
# ## Does it hold in every mill?

# %%
run.holds_everywhere()

# %% [markdown]
# ## Next quarter

# %%
chaff.recheck(run.selection, chaff.demo.lots(rows=300, seed=9))
